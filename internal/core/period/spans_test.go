package period

import (
	"math/rand/v2"
	"testing"
)

// Spans behave as the sets of days that they stand for.
func TestSpansAreSetsOfDays(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 4))
	random := func() Span { from := Date(r.IntN(40)); return Span{from, from + Date(r.IntN(8)) - 1} }
	for range 2000 {
		var s Spans
		days := map[Date]bool{}
		for range r.IntN(6) {
			more := random()
			s = s.Add(more)
			for d := more.From; d <= more.To; d++ {
				days[d] = true
			}
		}
		covered := map[Date]bool{}
		for i, x := range s {
			if x.Days() == 0 || i > 0 && s[i-1].To+1 >= x.From {
				t.Fatalf("%v overlaps, touches or is empty", s)
			}
			for d := x.From; d <= x.To; d++ {
				covered[d] = true
			}
		}
		for d := Date(-2); d < 60; d++ {
			if days[d] != covered[d] {
				t.Fatalf("%v: day %d is %v, want %v", s, d, covered[d], days[d])
			}
		}
		of := random()
		lacking := map[Date]bool{}
		for _, x := range s.Lacking(of) {
			for d := x.From; d <= x.To; d++ {
				lacking[d] = true
			}
		}
		for d := Date(-2); d < 60; d++ {
			if want := d >= of.From && d <= of.To && !days[d]; lacking[d] != want {
				t.Fatalf("%v lacks day %d of %v: %v, want %v", s, d, of, lacking[d], want)
			}
		}
	}
}
