package dbtable

import "testing"

// TestMarks: a checkpoint gets the place of the last position that was delivered, and older places are dropped.
func TestMarks(t *testing.T) {
	c := &Changes{}
	if c.Mark(0) != "" {
		t.Error("there is a place before anything was read")
	}
	for i := range int64(5) {
		c.n = 10 * (i + 1)
		c.marked(Place{At: "0-1-" + string(rune('1'+i))})
	}
	c.marked(Place{"0-1-5", "0-1-6", 3}) // a later place of the same position
	for pos, want := range map[int64]string{25: "0-1-2||0", 50: "0-1-5|0-1-6|3", 1000: "0-1-5|0-1-6|3"} {
		d := &Changes{marks: append([]mark{}, c.marks...)}
		if got := d.Mark(pos); got != want {
			t.Errorf("at %d: %q, wanted %q", pos, got, want)
		}
		if got := d.Mark(pos); got != want {
			t.Errorf("asked again at %d: %q, wanted %q", pos, got, want)
		}
	}
	if c.Mark(5) != "" {
		t.Error("a position before all marks has a place")
	}
	back := &Changes{}
	if err := back.ResumeAt("0-1-5|0-1-6|3", 50); err != nil || back.start != (Place{"0-1-5", "0-1-6", 3}) || back.n != 50 || !back.all {
		t.Errorf("%v %+v", err, back.start)
	}
	for _, bad := range []string{"0-1-5", "a|b|c", "a|b|c|d"} {
		if err := (&Changes{}).ResumeAt(bad, 0); err == nil {
			t.Errorf("%q is a place", bad)
		}
	}
	if err := (&Changes{}).ResumeAt("", 0); err != nil {
		t.Error("a checkpoint of before the rows were read cannot be resumed")
	}
	many := &Changes{}
	for i := range int64(5 * keptMarks) {
		many.n = i
		many.marked(Place{At: "x"})
	}
	if len(many.marks) > 2*keptMarks {
		t.Errorf("%d places are kept where nobody takes checkpoints", len(many.marks))
	}
}
