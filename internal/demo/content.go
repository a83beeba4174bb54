package demo

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"image"
	"image/color"
	"image/png"
	"math"
	"math/rand/v2"
	"strings"
	"time"

	"golang.org/x/image/tiff"
)

// plateTIFF draws a pressed plant on a sheet: a stem, leaves, a label.
func plateTIFF(seed uint64, back bool) []byte {
	var b bytes.Buffer
	if err := tiff.Encode(&b, plate(seed, 224+int(seed%48), 312, back), nil); err != nil {
		panic(err) // drawing into memory does not fail
	}
	return b.Bytes()
}

func detailPNG(seed uint64) []byte {
	var b bytes.Buffer
	if err := png.Encode(&b, plate(seed, 120, 120, false)); err != nil {
		panic(err) // drawing into memory does not fail
	}
	return b.Bytes()
}

func plate(seed uint64, w, h int, back bool) image.Image {
	r := rand.New(rand.NewPCG(seed, 11))
	img := image.NewRGBA(image.Rect(0, 0, w, h))
	for y := range h {
		for x := range w {
			n := uint8(r.IntN(7))
			img.SetRGBA(x, y, color.RGBA{236 - n, 231 - n, 217 - n, 255})
		}
	}
	if back {
		return img
	}
	dot := func(x, y, rad float64, c color.RGBA) {
		for dy := -rad; dy <= rad; dy++ {
			for dx := -rad; dx <= rad; dx++ {
				if dx*dx+dy*dy <= rad*rad {
					img.SetRGBA(int(x+dx), int(y+dy), c)
				}
			}
		}
	}
	green := color.RGBA{uint8(60 + r.IntN(40)), uint8(84 + r.IntN(40)), 52, 255}
	for range 2 + r.IntN(3) {
		x, y, angle := float64(w)/2, float64(h)*0.86, -math.Pi/2+(r.Float64()-0.5)
		for i := range int(float64(h) * 0.7) {
			dot(x, y, 1.4, green)
			x, y, angle = x+math.Cos(angle), y+math.Sin(angle), angle+(r.Float64()-0.5)*0.08
			if i%14 == 7 {
				for k := range 14 {
					side := float64(1 - 2*(i/14%2))
					dot(x+side*float64(k), y-float64(k)/2, 2.6*math.Sin(float64(k+1)/15*math.Pi), green)
				}
			}
		}
		dot(x, y, 4, color.RGBA{150, uint8(60 + r.IntN(60)), uint8(90 + r.IntN(60)), 255})
	}
	for y := h - 40; y < h-12; y++ {
		for x := w - 90; x < w-10; x++ {
			img.SetRGBA(x, y, color.RGBA{250, 248, 240, 255})
		}
	}
	return img
}

var phrases = []string{"Wet ground between tussocks, water table a hand below the surface.",
	"Flowers just open; bees on every second plant.", "Grazed on the north side, untouched along the ditch.",
	"Photographed before pressing.", "Mixed with bell heather, never dominant.",
	"Wind from the west, cold; notes made in the hut.", "Seed taken for the trays, forty capsules.",
	"Same stand as two years ago, clearly smaller.", "Peat cut here in living memory.",
	"Returned after rain to check the second stem."}

func notes(seed uint64, place, who string) []byte {
	r := rand.New(rand.NewPCG(seed, 23))
	var b strings.Builder
	fmt.Fprintf(&b, "Field notes, %s\n%s\n\n", place, who)
	for i := range 12 + r.IntN(30) {
		t := taxa[r.IntN(len(taxa))]
		fmt.Fprintf(&b, "%02d. %s. %s %s\n", i+1, t.name, phrases[r.IntN(len(phrases))], phrases[r.IntN(len(phrases))])
	}
	return []byte(b.String())
}

// soundWAV makes some seconds of wind: mono, 16 bit, 8 kHz.
func soundWAV(seed uint64) []byte {
	r := rand.New(rand.NewPCG(seed, 31))
	n := 8000 * (6 + r.IntN(10))
	var b bytes.Buffer
	b.WriteString("RIFF")
	le := func(v any) { _ = binary.Write(&b, binary.LittleEndian, v) } // into memory
	le(uint32(36 + 2*n))
	b.WriteString("WAVEfmt ")
	le([]uint32{16})
	le([]uint16{1, 1})
	le([]uint32{8000, 16000})
	le([]uint16{2, 16})
	b.WriteString("data")
	le(uint32(2 * n))
	samples := make([]int16, n)
	low := 0.0
	for i := range samples {
		low += (r.Float64()*2 - 1 - low) * 0.06
		samples[i] = int16(low * 9000 * (0.6 + 0.4*math.Sin(float64(i)/9000)))
	}
	le(samples)
	return b.Bytes()
}

func trayCSV(seed uint64, at time.Time) []byte {
	r := rand.New(rand.NewPCG(seed, 41))
	var b strings.Builder
	b.WriteString("cell,taxon,sown,germinated,temperature,moisture\n")
	for cell := range 24 + r.IntN(40) {
		fmt.Fprintf(&b, "%c%d,%s,%s,%d,%.1f,%.2f\n", 'A'+cell/8%8, cell%8+1, taxa[int(seed)%len(taxa)].name,
			at.AddDate(0, 0, -30).Format(time.DateOnly), r.IntN(12), 14+r.Float64()*8, 0.2+r.Float64()*0.5)
	}
	return []byte(b.String())
}

func letter(seed uint64, title string) []byte {
	r := rand.New(rand.NewPCG(seed, 53))
	var b strings.Builder
	fmt.Fprintf(&b, "%s %04d\nFennmoor Herbarium\n\n", title, seed%10000)
	for range 8 + r.IntN(60) {
		b.WriteString(phrases[r.IntN(len(phrases))])
		b.WriteByte('\n')
	}
	return []byte(b.String())
}

func specimens(seed uint64) []byte {
	r := rand.New(rand.NewPCG(seed, 61))
	var b strings.Builder
	b.WriteString("sheet,taxon,condition\n")
	for range 3 + r.IntN(25) {
		fmt.Fprintf(&b, "FH-%06d,%s,%s\n", 4101+r.IntN(600), taxa[r.IntN(len(taxa))].name,
			[]string{"good", "good", "fragile", "remounted"}[r.IntN(4)])
	}
	return []byte(b.String())
}

func noise(seed uint64, n int) []byte {
	r := rand.New(rand.NewPCG(seed, 71))
	p := make([]byte, n)
	for i := range p {
		p[i] = byte(r.Uint32())
	}
	return p
}
