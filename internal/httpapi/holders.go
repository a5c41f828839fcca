package httpapi

import (
	"cmp"
	"context"
	"net/http"
	"slices"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"soba.invalid/soba/internal/core/catalogue"
	"soba.invalid/soba/internal/core/cell"
	"soba.invalid/soba/internal/core/entry"
	"soba.invalid/soba/internal/wire"
)

func (s *Server) addHolders() {
	huma.Register(s.api, operation(http.MethodGet, "/api/v1/listings/{symbol}/holders", "get-holders", "Who holds an issuer's shares, and what groups of holders have had together", "history"),
		func(ctx context.Context, in *SymbolInput) (*body[wire.Holders], error) {
			r, standing, given, err := s.known(ctx, in.Symbol, catalogue.Holders)
			if err != nil {
				return nil, err
			}
			out := wire.Holders{Listing: s.listing(r.Listing), Standing: standing, Together: []wire.Holding{}, Largest: []wire.Holding{}}
			if given != nil {
				out.Together, out.Largest = holdersOf(given.Entries)
			}
			return answer(out), nil
		})
}

// holdersOf are what groups have together, the newest first, and the holders of the
// newest day of each group, the largest first, with what they held at the report before.
func holdersOf(entries entry.Entries) (together, largest []wire.Holding) {
	together, largest = []wire.Holding{}, []wire.Holding{}
	at := catalogue.Info(catalogue.Holders).Column
	read := func(e *entry.Entry) wire.Holding {
		h := wire.Holding{Date: e.Day.String(), Group: e.Values[at("group")].Text, Holder: e.Values[at("holder")].Text, Role: e.Values[at("role")].Text}
		if v := e.Values[at("shares")]; v.Kind == cell.Number {
			h.Shares = &v.Num
		}
		if v := e.Values[at("part")]; v.Kind == cell.Number {
			h.Part = &v.Num
		}
		return h
	}
	type holder struct{ group, name string }
	before := map[holder]wire.Holding{} // what each held last, of those that are older
	newest := map[holder]wire.Holding{}
	days := map[string]string{} // by group, the newest
	var order []holder
	for i := range entries {
		h := read(&entries[i])
		if h.Holder == "" {
			together = append([]wire.Holding{h}, together...)
			continue
		}
		k := holder{h.Group, h.Holder}
		if was, known := newest[k]; known {
			before[k] = was
		} else {
			order = append(order, k)
		}
		newest[k] = h
		days[h.Group] = max(days[h.Group], h.Date)
	}
	for _, k := range order {
		h := newest[k]
		if h.Date != days[h.Group] {
			continue // has sold, or is no longer told of
		}
		if was, known := before[k]; known && was.Shares != nil && h.Shares != nil {
			change := *h.Shares - *was.Shares
			h.Change = &change
		}
		largest = append(largest, h)
	}
	slices.SortStableFunc(largest, func(a, b wire.Holding) int {
		return cmp.Or(strings.Compare(a.Group, b.Group), cmp.Compare(numberOr0(b.Shares), numberOr0(a.Shares)))
	})
	return together, largest
}

func numberOr0(x *float64) float64 {
	if x == nil {
		return 0
	}
	return *x
}
