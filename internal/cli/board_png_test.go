package cli

import (
	"bytes"
	"encoding/json"
	"fmt"
	"image/color"
	"image/png"
	"testing"

	"fiume/internal/core/plan"
	"fiume/internal/service/base"
	"fiume/internal/service/boards"
)

// TestBoardPicture: a board with a panel of each kind is a picture of the size of its panels, in which each has drawn something; rows that are odd break nothing.
func TestBoardPicture(t *testing.T) {
	b := &boards.Board{Title: "All of it: it's «on»"}
	var rows []panelRows
	odd := []string{`{"label":null,"value":null,"at":null,"state":null,"x":null,"y":null}`, `{"label":"\u0007long ` + string(bytes.Repeat([]byte("x"), 3000)) + `","value":1e300,"at":"2026-05-17T09:00:30Z","state":"odd","x":1e300,"y":-1e300}`, `[]`}
	for i, kind := range []string{"series", "bars", "number", "table", "heat", "histogram", "states", "map", "areas", "text", "series"} {
		p := boards.Panel{Title: kind, Kind: kind, Words: "Words\n\nand more", Wide: 4 + i%3, High: 2 + i%2, Label: "label", Value: "value", Time: "at", State: "state", Across: "x", Up: "y", Stacked: i == 10,
			Outline: []plan.Spot{{Across: 1, Up: 2}, {Across: 3, Up: 1}}, Columns: []base.Column{{Name: "label", Type: "VARCHAR"}, {Name: "value", Type: "DOUBLE"}}}
		b.Panels = append(b.Panels, p)
		u := boards.Update{Full: true}
		for k := range 40 {
			u.Rows = append(u.Rows, boards.Row{Key: fmt.Sprint(k), Row: json.RawMessage(fmt.Sprintf(`{"label":"L%d","value":%d,"at":"2026-05-17T09:%02d:00Z","state":"s%d","x":%d,"y":%d}`, k%4, k*k, k/4, k%3, k%4, k%7))})
		}
		if i%2 == 1 {
			for k, o := range odd {
				u.Rows = append(u.Rows, boards.Row{Key: fmt.Sprint("odd", k), Row: json.RawMessage(o)})
			}
		}
		var r panelRows
		r.take(u)
		rows = append(rows, r)
	}
	at, high := placed(b.Panels)
	var out bytes.Buffer
	if err := boardPNG(&out, b, rows); err != nil {
		t.Fatal(err)
	}
	img, err := png.Decode(&out)
	if err != nil {
		t.Fatal(err)
	}
	if w, h := img.Bounds().Dx(), img.Bounds().Dy(); w != 2400 || h != 2*(44+high*100+12) {
		t.Errorf("the picture is %d by %d, with %d rows of panels", w, h, high)
	}
	for i, p := range b.Panels {
		tones := map[color.Color]bool{}
		x0, y0 := 24+at[i][1]*198, 88+at[i][0]*200+70
		for x := x0 + 10; x < x0+p.Wide*198-40; x++ {
			for y := y0; y < y0+p.High*200-110; y++ {
				tones[img.At(x, y)] = true
			}
		}
		if len(tones) < 3 {
			t.Errorf("%s has drawn nothing: %d tones", p.Kind, len(tones))
		}
	}
	// No two panels stand in one place.
	seen := map[[2]int]int{}
	for i, p := range b.Panels {
		for r := range p.High {
			for c := range p.Wide {
				k := [2]int{at[i][0] + r, at[i][1] + c}
				if k[1] > 11 {
					t.Errorf("%s stands outside", p.Kind)
				}
				if other, ok := seen[k]; ok {
					t.Errorf("%s and %s stand in one place", p.Kind, b.Panels[other].Kind)
				}
				seen[k] = i
			}
		}
	}
	b.Panels[0].High = 1000
	if err := boardPNG(&out, b, rows); err == nil {
		t.Error("a picture of 1,000 rows was drawn")
	}
}
