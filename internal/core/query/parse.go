package query

import (
	"maps"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"spindle/internal/core/fault"
	"spindle/internal/core/object"
	"spindle/internal/core/pattern"
)

// Parse reads an expression; moments without a zone and times ago are as of now. The error
// has the code query.
func Parse(s string, now time.Time) (Expr, error) {
	if len(s) > MaxLength {
		return nil, problem(MaxLength, "the expression has %d bytes, and %d are allowed", len(s), MaxLength)
	}
	if !utf8.ValidString(s) {
		return nil, problem(0, "the expression is not UTF-8")
	}
	list, err := lex(s)
	if err != nil {
		return nil, err
	}
	p := &parser{list: list, now: now}
	if p.here().end {
		return nil, problem(0, "the expression is empty")
	}
	x, err := p.or(0)
	if err != nil {
		return nil, err
	}
	if t := p.here(); !t.end {
		f := problem(t.at, "after a test comes and, or, or the end, not %q", t.text)
		if before := p.list[max(0, p.i-1)]; !t.quoted && !t.sign && !before.quoted && !before.sign {
			return nil, f.Do("a value with blanks stands in quotation marks: %s", quoted(before.text+" "+t.text))
		}
		return nil, f
	}
	return x, nil
}

type parser struct {
	list  []token
	i     int
	now   time.Time
	tests int
}

func (p *parser) here() token { return p.list[p.i] }

func (p *parser) next() token {
	t := p.list[p.i]
	if !t.end {
		p.i++
	}
	return t
}

// take goes on when the next words are those.
func (p *parser) take(words ...string) bool {
	for k, w := range words {
		if p.i+k >= len(p.list) || !p.list[p.i+k].word(w) {
			return false
		}
	}
	p.i += len(words)
	return true
}

func (p *parser) or(depth int) (Expr, error) {
	var parts Or
	for {
		x, err := p.and(depth)
		if err != nil {
			return nil, err
		}
		if o, ok := x.(Or); ok { // of brackets
			parts = append(parts, o...)
		} else {
			parts = append(parts, x)
		}
		if !p.take("or") {
			break
		}
	}
	if len(parts) == 1 {
		return parts[0], nil
	}
	return parts, nil
}

func (p *parser) and(depth int) (Expr, error) {
	var parts And
	for {
		x, err := p.not(depth)
		if err != nil {
			return nil, err
		}
		if a, ok := x.(And); ok {
			parts = append(parts, a...)
		} else {
			parts = append(parts, x)
		}
		if !p.take("and") {
			break
		}
	}
	if len(parts) == 1 {
		return parts[0], nil
	}
	return parts, nil
}

func (p *parser) not(depth int) (Expr, error) {
	t := p.here()
	if depth > MaxDepth {
		return nil, problem(t.at, "brackets and nots are more than %d deep", MaxDepth)
	}
	if p.take("not") {
		x, err := p.not(depth + 1)
		if err != nil {
			return nil, err
		}
		if n, ok := x.(Not); ok {
			return n.Of, nil
		}
		return Not{x}, nil
	}
	if t.sign && t.text == "(" {
		p.i++
		x, err := p.or(depth + 1)
		if err != nil {
			return nil, err
		}
		if c := p.here(); !c.sign || c.text != ")" {
			return nil, problem(c.at, "a bracket is never closed").Do("close the one at %d", t.at+1)
		}
		p.i++
		return x, nil
	}
	return p.test()
}

// test reads a field, how it compares, and values.
func (p *parser) test() (Expr, error) {
	if p.tests++; p.tests > MaxTests {
		return nil, problem(p.here().at, "more than %d tests are asked", MaxTests)
	}
	op := Op("")
	switch {
	case p.take("has"):
		op = Exists
	case p.take("lacks"):
		op = Lacks
	}
	f, err := p.field()
	if err != nil {
		return nil, err
	}
	if op != "" {
		if fields[f.Name] != open {
			return nil, problem(p.here().at, "every object has its %s", f.Name).Do("ask has field NAME, or has tag NAME")
		}
		return &Test{Field: f, Op: op}, nil
	}
	if fields[f.Name] == alone {
		return p.aloneTest(f), nil
	}
	at := p.here()
	not := false
	op, not, err = p.op(f)
	if err != nil {
		return nil, err
	}
	t := &Test{Field: f, Op: op}
	if err := p.values(t, at); err != nil {
		return nil, err
	}
	if not {
		return Not{t}, nil
	}
	return t, nil
}

// aloneTest reads a field that says all by itself, such as sealed; sealed is yes and
// sealed is no are taken too.
func (p *parser) aloneTest(f Field) Expr {
	t := &Test{Field: f, Op: True}
	switch {
	case p.take("is", "no"):
		return Not{t}
	case p.take("is", "yes"):
	}
	return t
}

func (p *parser) field() (Field, error) {
	t := p.next()
	name := strings.ToLower(t.text)
	k, ok := fields[name]
	if t.quoted || t.sign || t.end || !ok {
		f := problem(t.at, "%s is no field", described(t))
		if near := nearest(t.text, slices.Collect(maps.Keys(fields))); near != "" && !t.end {
			return Field{}, f.Do("did you mean %s? A field of your own is written field %s", near, quoted(t.text))
		}
		if !t.end && !t.sign {
			return Field{}, f.Do("a field of your own is written field %s, a tag tag %s", quoted(t.text), quoted(t.text))
		}
		return Field{}, f
	}
	if k != open {
		return Field{Name: name}, nil
	}
	n := p.next()
	if n.sign || n.end || n.text == "" || len(n.text) > MaxName || !n.quoted && reserved[strings.ToLower(n.text)] {
		return Field{}, problem(n.at, "after %s comes a name", name).
			Do("write it as %s taxon, in quotation marks where it is a word of the language", name)
	}
	named := n.text
	if name == "field" {
		named = strings.ToLower(named) // metadata names have no case
	}
	return Field{name, named}, nil
}

func described(t token) string {
	if t.end {
		return "the end"
	}
	return strconv.Quote(t.text)
}

// ops are the comparisons as they are written, the longest first, with the kinds of fields
// that take them.
var ops = []struct {
	words []string
	op    Op
	kinds []kind
}{
	{[]string{"is", "one", "of"}, OneOf, []kind{words, stateOf, idOf, open}},
	{[]string{"is"}, Is, []kind{words, stateOf, idOf, open, bytesOf}},
	{[]string{"begins", "with"}, Begins, []kind{words, open}},
	{[]string{"ends", "with"}, Ends, []kind{words, open}},
	{[]string{"contains"}, Contains, []kind{words, open}},
	{[]string{"like"}, Like, []kind{words, open}},
	{[]string{"over"}, Over, []kind{bytesOf, lengthOf, open}},
	{[]string{"under"}, Under, []kind{bytesOf, lengthOf, open}},
	{[]string{"at", "least"}, AtLeast, []kind{bytesOf, lengthOf, open}},
	{[]string{"at", "most"}, AtMost, []kind{bytesOf, lengthOf, open}},
	{[]string{"between"}, Between, []kind{bytesOf, lengthOf, momentOf, open}},
	{[]string{"before"}, Before, []kind{momentOf}},
	{[]string{"after"}, After, []kind{momentOf}},
	{[]string{"on"}, On, []kind{momentOf}},
}

// op reads a comparison; is not and not like and such are their opposites.
func (p *parser) op(f Field) (op Op, not bool, err error) {
	t := p.here()
	if p.list[p.i].word("is") && p.i+1 < len(p.list) && p.list[p.i+1].word("not") {
		p.list[p.i+1] = token{text: "is", at: t.at} // is not one of is is one of, turned round
		p.i++
		not = true
	} else if p.take("not") {
		not = true
	}
	for _, o := range ops {
		if p.take(o.words...) {
			if !slices.Contains(o.kinds, fields[f.Name]) {
				return "", false, problem(t.at, "%s is not compared by %s", f.Name, o.op).Do("say %s", p.forms(f))
			}
			return o.op, not, nil
		}
	}
	return "", false, problem(p.here().at, "after %s comes how it compares, not %s", f.Name, described(p.here())).
		Do("say %s", p.forms(f))
}

// forms names the comparisons of a field.
func (p *parser) forms(f Field) string {
	var out []string
	for _, o := range ops {
		if slices.Contains(o.kinds, fields[f.Name]) {
			out = append(out, string(o.op))
		}
	}
	return strings.Join(out, ", ")
}

// values reads what a test compares with.
func (p *parser) values(t *Test, at token) error {
	first := p.here()
	for {
		if len(t.Texts)+len(t.Numbers)+len(t.Times) >= MaxValues {
			return problem(p.here().at, "a test has more than %d values", MaxValues)
		}
		if err := p.value(t); err != nil {
			return err
		}
		more := t.Op == OneOf && p.comma() || t.Op == Between && len(t.Numbers)+len(t.Times) == 1
		if !more {
			break
		}
		if t.Op == Between && !p.take("and") {
			return problem(p.here().at, "between takes two values with and between them, not %s", described(p.here()))
		}
	}
	if t.Op == Between && (len(t.Numbers) == 2 && t.Numbers[0] > t.Numbers[1] || len(t.Times) == 2 &&
		t.Times[0].After(t.Times[1])) {
		return problem(first.at, "the first value of between is the greater one").Do("turn them round")
	}
	return nil
}

func (p *parser) comma() bool {
	if t := p.here(); t.sign && t.text == "," {
		p.i++
		return true
	}
	return false
}

// value reads one value of the kind that the field and the comparison have.
func (p *parser) value(t *Test) error {
	v := p.next()
	if v.sign || v.end || !v.quoted && reserved[strings.ToLower(v.text)] {
		return problem(v.at, "a value is missing before %s", described(v)).
			Do("words of the language stand in quotation marks as values")
	}
	k := fields[t.Field.Name]
	if k == open {
		if k = words; slices.Contains([]Op{Over, Under, AtLeast, AtMost, Between}, t.Op) {
			k = open
		}
	}
	switch k {
	case bytesOf, lengthOf, open:
		n, err := p.number(k, v)
		t.Numbers = append(t.Numbers, n)
		return err
	case momentOf:
		at, err := p.moment(t.Op, v)
		t.Times = append(t.Times, at)
		return err
	case stateOf:
		if !slices.Contains(states, strings.ToLower(v.text)) {
			return problem(v.at, "%q is no state of replication", v.text).Do("say %s", strings.Join(states, ", "))
		}
		v.text = strings.ToLower(v.text)
	}
	if t.Op != Like {
		t.Texts = append(t.Texts, v.text)
		return nil
	}
	x, err := pattern.Parse(v.text)
	if err != nil {
		f := problem(v.at, "%s", fault.From(err).Message)
		f.Remedy = fault.From(err).Remedy
		return f
	}
	t.Pattern = x
	return nil
}

// number reads bytes, a length of time in seconds, or a number as it is.
func (p *parser) number(k kind, v token) (n float64, err error) {
	text := v.text
	if k == bytesOf && !v.quoted { // the unit may stand apart
		if u := p.here(); !u.quoted && !u.sign && !u.end && object.IsUnit(u.text) {
			text += p.next().text
		}
	}
	switch k {
	case bytesOf:
		b, berr := object.ParseSize(text)
		if n, err = float64(b), berr; err != nil || b > 1<<53 {
			return 0, problem(v.at, "%q is no size", text).Do("write it as 500000, 10 MiB or 2GB")
		}
	case lengthOf:
		if n, err = p.length(text); err != nil {
			return 0, problem(v.at, "%q is no length of time", text).Do("write it as 90s, 4h or 30 days")
		}
	default:
		if n, err = strconv.ParseFloat(text, 64); err != nil || n != n || n > 1e300 || n < -1e300 {
			return 0, problem(v.at, "%q is no number", text).Do("compare words by is, begins with, contains or like")
		}
	}
	return n, nil
}

// lengths are units of time that may stand apart, in seconds.
var lengths = map[string]float64{"second": 1, "minute": 60, "hour": 3600, "day": 86_400, "week": 7 * 86_400,
	"year": 365 * 86_400}

// length reads a length of time in seconds: 90s, 4h, 30d, or with a unit that stands apart.
func (p *parser) length(text string) (float64, error) {
	if u := p.here(); !u.quoted && !u.sign && !u.end {
		if unit, ok := lengths[strings.TrimSuffix(strings.ToLower(u.text), "s")]; ok {
			n, err := strconv.ParseFloat(text, 64)
			if err != nil || n < 0 || n > 1e6 {
				return 0, strconv.ErrRange
			}
			p.i++
			return n * unit, nil
		}
	}
	d, err := object.ParseDuration(text)
	return d.Seconds(), err
}

// moment reads a moment: a day, a day and a time, or so long ago. Before and after a day
// are before it begins and after it has ended.
func (p *parser) moment(op Op, v token) (time.Time, error) {
	text := v.text
	if len(text) == len(time.DateOnly) {
		if clock := p.here(); !clock.quoted && !clock.sign && !clock.end && strings.Contains(clock.text, ":") {
			text += " " + p.next().text
		}
	}
	day, err := time.Parse(time.DateOnly, text)
	switch {
	case op == On && err != nil:
		return day, problem(v.at, "%q is no day", v.text).Do("write it as 2026-11-20")
	case op == On:
		return day, nil
	case err == nil && op == After:
		return day.AddDate(0, 0, 1).Add(-time.Microsecond), nil
	case err == nil:
		return day, nil
	}
	at, err := object.ParseMoment(text, p.now.UTC())
	if err != nil {
		return at, problem(v.at, "%q is no moment", text).Do("write it as 2026-11-20, \"2026-11-20 14:00\" or 7d ago")
	}
	p.take("ago")
	return at.UTC().Truncate(time.Microsecond), nil
}
