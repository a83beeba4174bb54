package syncing

import (
	"fmt"
	"strings"
	"time"
)

// Way is how the place that a job writes is reached from another machine.
type Way struct {
	URL    string // of the store; "" for a folder
	Key    string // id of the access key; its secret is not on the sheet
	Region string
	Style  string
}

// Sheet says in plain text what to do when everything here is gone: what to have, what to
// run, where, and with which settings. No secret is on it.
func (j *Job) Sheet(w Way, now time.Time) string {
	var b strings.Builder
	line := func(text string, args ...any) { fmt.Fprintf(&b, text+"\n", args...) }
	line("RECOVERY SHEET for %s", j.Name)
	line("Written on %s. No secret is on it: keep it where the service is not.", now.UTC().Format("2 January 2006"))
	line("")
	line("What comes back: the copy of %s", j.From)
	line("It is kept at:   %s", j.To)
	line("How it is kept:  %s", j.kept())
	line("")
	line("You need")
	line("  - a machine with the program spindle; no service and no database")
	if w.URL != "" {
		line("  - the secret of the key %s at %s", w.Key, w.URL)
	} else {
		line("  - the folder, on that machine")
	}
	if j.Seals != nil {
		line("  - the passphrase of this job; without it nothing can be opened, by nobody")
		line("    It is kept by: ______________________________")
	}
	line("")
	line("Run")
	line("  %s", strings.Join(j.recover(w), " "))
	line("")
	line("It asks for the secrets, and before it replaces a file that is in the folder already.")
	line("Add --prefix notes/ for a part of it, --rehearse to write nothing.")
	if w.URL != "" {
		line("Where the store keeps versions, --as-of '2026-11-20 14:00' brings back what was there then.")
	}
	if j.Seals != nil {
		line("")
		line("If the file spindle-sealed.json is gone from the target, add")
		line("  --salt %s%s", j.Seals.Salt, map[bool]string{true: " --names"}[j.Seals.Names])
		line("")
		line("Contents open without spindle too, with any program for the format age, version 1:")
		line("  age -d -o key.txt spindle-sealed-key.age")
		line("  age -d -i key.txt -o CONTENT FILE")
	}
	line("")
	line("Settings")
	line("  mode %s; compared by %s; revision %d, by %s", j.Mode, j.By, j.Revision, j.Who)
	if j.Schedule != "" {
		line("  schedule %s, %s", j.Schedule, map[bool]string{true: "UTC", false: j.Zone}[j.Zone == ""])
	}
	if len(j.Like)+len(j.LeaveOut) > 0 {
		line("  keys like %s; not like %s", orAll(j.Like), orNone(j.LeaveOut))
	}
	return b.String()
}

func (j *Job) kept() string {
	switch {
	case j.Seals == nil:
		return "as it is"
	case j.Seals.Names:
		return "contents and names sealed with a passphrase"
	}
	return "contents sealed with a passphrase, names as they are"
}

// recover gives the command that brings back what the job wrote.
func (j *Job) recover(w Way) []string {
	if w.URL == "" {
		return []string{"spindle sync recover --from", quoted(j.To.Folder), "--to ./recovered"}
	}
	out := []string{"spindle sync recover --from", quoted(strings.TrimSuffix(w.URL, "/") + "/" + j.To.Bucket + "/" +
		j.To.Prefix),
		"--key", quoted(w.Key)}
	if w.Region != "" {
		out = append(out, "--region", quoted(w.Region))
	}
	if w.Style != "" {
		out = append(out, "--style", w.Style)
	}
	return append(out, "--to ./recovered")
}

// quoted writes a word for a shell.
func quoted(s string) string {
	if s != "" && strings.Trim(s, "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789/.:-_@") == "" {
		return s
	}
	return "'" + strings.ReplaceAll(s, "'", `'\''`) + "'"
}

func orAll(list []string) string {
	if len(list) == 0 {
		return "any"
	}
	return strings.Join(list, ", ")
}

func orNone(list []string) string {
	if len(list) == 0 {
		return "none"
	}
	return strings.Join(list, ", ")
}
