package httpapi

import (
	"context"
	"math"
	"net/http"
	"slices"

	"github.com/danielgtaylor/huma/v2"

	"soba.invalid/soba/internal/core/catalogue"
	"soba.invalid/soba/internal/core/cell"
	"soba.invalid/soba/internal/core/entry"
	"soba.invalid/soba/internal/core/estimate"
	"soba.invalid/soba/internal/core/statement"
	"soba.invalid/soba/internal/core/table"
	"soba.invalid/soba/internal/wire"
)

func (s *Server) addEstimates() {
	huma.Register(s.api, operation(http.MethodGet, "/api/v1/listings/{symbol}/estimates", "get-estimates", "What analysts expect of an issuer, and what became of it", "history"),
		func(ctx context.Context, in *SymbolInput) (*body[wire.Estimates], error) {
			r, standing, given, err := s.known(ctx, in.Symbol, catalogue.Estimates)
			if err != nil {
				return nil, err
			}
			out := wire.Estimates{Listing: s.listing(r.Listing), Standing: standing, Ahead: []wire.Estimate{}, Behind: []wire.Estimate{}, Opinions: []wire.Opinion{}}
			if _, said := r.Account(catalogue.Opinions, s.Now(), s.Limits); said != nil {
				out.Opinions, out.Next = opinionsOf(said.Entries)
			}
			if given == nil {
				return answer(out), nil
			}
			for _, e := range slices.Concat(given.Outlook.Ahead(false), given.Outlook.Ahead(true)) {
				out.Ahead = append(out.Ahead, expectedOf(e))
				out.In = e.Currency
			}
			for i, e := range given.Outlook.Behind() {
				w := expectedOf(e)
				if x, _, ok := given.Outlook.Surprise(i); ok {
					w.Surprise = &x
				}
				out.Behind = append(out.Behind, w)
			}
			return answer(out), nil
		})
}

// known is what is known of a dataset of one listing, and how it stands; nothing is given
// of a kind of listing that does not have it.
func (s *Server) known(ctx context.Context, symbol string, d catalogue.Dataset) (*table.Record, wire.Standing, *table.Given, error) {
	list, err := s.adHoc([]string{symbol})
	if err != nil {
		return nil, wire.Standing{}, nil, err
	}
	records, err := s.Book.Records(ctx, list.Rows, 0)
	if err != nil {
		return nil, wire.Standing{}, nil, asProblem(err, "")
	}
	r := records[0]
	if !catalogue.Info(d).Has(r.Listing.Kind) {
		return r, wire.Standing{State: cell.Missing.String(), Reason: cell.NotApplicable.String()}, nil, nil
	}
	account, given := r.Account(d, s.Now(), s.Limits)
	return r, wire.Standing{State: account.State.String(), Reason: account.Reason.String(), Detail: account.Detail, Source: account.Source, Fetched: moment(account.Fetched)}, given, nil
}

func expectedOf(e *estimate.Estimate) wire.Estimate {
	of := func(line estimate.Line) *float64 {
		if x := e.Values[line]; !math.IsNaN(x) {
			return &x
		}
		return nil
	}
	return wire.Estimate{
		Period: e.Label(), End: e.End.String(), Year: e.Part == statement.Whole, EPS: of(estimate.EPS), High: of(estimate.High), Low: of(estimate.Low), Analysts: of(estimate.Analysts),
		Before7: of(estimate.Before7), Before30: of(estimate.Before30), Before60: of(estimate.Before60), Before90: of(estimate.Before90), Revenue: of(estimate.Revenue), RevHigh: of(estimate.RevenueHigh), RevLow: of(estimate.RevenueLow), RevBy: of(estimate.RevenueAnalysts), Actual: of(estimate.Actual),
	}
}

// opinionsOf are the recommendations through time, the newest first, and when the next
// report is expected.
func opinionsOf(entries entry.Entries) (out []wire.Opinion, next string) {
	out = []wire.Opinion{}
	for i := len(entries) - 1; i >= 0; i-- {
		e := &entries[i]
		of := func(column string) *float64 {
			if v := e.Values[catalogue.Info(catalogue.Opinions).Column(column)]; v.Kind == cell.Number {
				return &v.Num
			}
			return nil
		}
		o := wire.Opinion{
			Date: e.Day.String(), StrongBuy: of("strong_buy"), Buy: of("buy"), Hold: of("hold"), Reduce: of("reduce"), Sell: of("sell"),
			Target: of("target"), High: of("target_high"), Low: of("target_low"),
		}
		if v := catalogue.MeanOpinion(e); v.Kind == cell.Number {
			o.Recommendation = &v.Num
		}
		out = append(out, o)
		if i == len(entries)-1 {
			next = e.Values[catalogue.Info(catalogue.Opinions).Column("next_report")].Text
		}
	}
	return out, next
}
