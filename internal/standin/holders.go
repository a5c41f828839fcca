package standin

import (
	"fmt"
	"math"
	"net/http"
	"strings"

	"soba.invalid/soba/internal/core/market"
	"soba.invalid/soba/internal/core/period"
)

// Holding is what somebody holds of an issuer, or a group of holders together.
type Holding struct {
	Day                 period.Date
	Group, Holder, Role string // Holder "": the group together
	Shares              int64
	Part                float64
}

// heldQuarters is how many ends of quarters back the vendor tells of holders.
const heldQuarters = 8

// Made-up names.
var (
	institutions = []string{"Outer Isles Pension Board", "Windlass Asset Managers", "Tidewrack Partners", "Saltire Bay Savings", "Longshore Fund Managers", "Fairlead Trustees", "Ebbstone Capital", "Northmark Teachers' Fund"}
	officers     = []struct{ name, role string }{{"Fennmark, A.", "Chair"}, {"Osk, J.", "Chief executive"}, {"Hallan, M.", "Finance"}, {"Brodlow, T.", "Founder's family"}, {"Quell, S.", "Director"}}
)

// Holders of a listing's issuer at the ends of the last quarters by a day, the oldest
// first: each group together, and at the newest two who they are.
func (m *Market) Holders(l *Listing, day period.Date) (out []Holding) {
	l = m.issuer(l)
	quarters := m.Accounts(l, day.AddDays(-45)) // they are told of half a quarter later
	if len(quarters) < heldQuarters {
		return nil
	}
	r := m.random("holders", l.Symbol.String())
	groups := []struct {
		name string
		part float64
	}{{"Insiders", 0.02 + 0.25*r.Float64()}, {"Institutions", 0.2 + 0.45*r.Float64()}}
	for i, q := range quarters[len(quarters)-heldQuarters:] {
		outstanding := float64(q.Shares)
		for g := range groups {
			group := &groups[g]
			group.part *= 1 + 0.02*r.NormFloat64()
			held := func(holder, role string, part float64) {
				shares := int64(math.Round(part * outstanding))
				out = append(out, Holding{Day: q.End, Group: group.name, Holder: holder, Role: role, Shares: shares, Part: float64(shares) / outstanding})
			}
			held("", "", group.part)
			if i < heldQuarters-2 {
				continue
			}
			left := group.part * 0.8
			for n := range 5 {
				left /= 2
				if group.name == "Insiders" {
					held(officers[n].name, officers[n].role, left)
				} else {
					held(institutions[(n+int(l.own%uint64(len(institutions))))%len(institutions)], "", left)
				}
			}
		}
	}
	return out
}

func (w *Whimbrel) holders(_ *http.Request, codes []string) (*answer, *refusal) {
	return w.listing(codes, "Company,As of,Group,Holder,Role,Shares,% of shares", func(b *strings.Builder, code string, l *Listing, today period.Date) {
		for _, h := range w.Market.Holders(l, today) {
			holder := h.Holder
			if holder == "" {
				holder = "All"
			}
			fmt.Fprintf(b, "%s,%s,%s,%q,%s,%d,%.4f%%\r\n", code, h.Day, h.Group, holder, h.Role, h.Shares, 100*h.Part)
		}
	})
}

// listing writes a table of lines for each company that is asked for and covered.
func (w *Whimbrel) listing(codes []string, header string, lines func(b *strings.Builder, code string, l *Listing, today period.Date)) (*answer, *refusal) {
	if len(codes) > whimbrelBatch {
		return nil, &refusal{status: 400, code: "too_many_companies", message: fmt.Sprintf("%d companies; at most %d", len(codes), whimbrelBatch)}
	}
	today := period.DateOf(w.Market.Clock().UTC())
	var b strings.Builder
	b.WriteString(header + "\r\n")
	for _, code := range codes {
		if l := w.find(code); l != nil && l.Kind == market.Share && !l.story.uncovered {
			lines(&b, code, l, today)
		}
	}
	return &answer{text: b.String(), contentType: "text/csv; charset=utf-8", units: 10 * len(codes)}, nil
}
