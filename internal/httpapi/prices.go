package httpapi

import (
	"context"
	"encoding/json"
	"net/http"
	"reflect"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"soba.invalid/soba/internal/core/catalogue"
	"soba.invalid/soba/internal/core/cell"
	"soba.invalid/soba/internal/core/dividend"
	"soba.invalid/soba/internal/core/history"
	"soba.invalid/soba/internal/core/period"
	"soba.invalid/soba/internal/core/series"
	"soba.invalid/soba/internal/core/table"
	"soba.invalid/soba/internal/store"
	"soba.invalid/soba/internal/wire"
)

type priceColumn struct {
	name string
	of   func(*series.Bars) []float64
}

// priceColumns are the columns of bars, in the order in which they are shown.
var priceColumns = []priceColumn{
	{"open", func(b *series.Bars) []float64 { return b.Open }},
	{"high", func(b *series.Bars) []float64 { return b.High }},
	{"low", func(b *series.Bars) []float64 { return b.Low }},
	{"close", func(b *series.Bars) []float64 { return b.Close }},
	{"volume", func(b *series.Bars) []float64 { return b.Volume }},
}

type pricesInput struct {
	Symbols   string `query:"symbols" doc:"Symbols or ISINs, joined by commas" maxLength:"8000"`
	Watchlist string `query:"watchlist" doc:"All names of a list, instead of symbols" maxLength:"80"`
	From      string `query:"from" doc:"A date, or one counted back, as -1y; a year back when left out" maxLength:"20"`
	To        string `query:"to" doc:"A date, or today" default:"today" maxLength:"20"`
	On        string `query:"on" doc:"One day instead: the last session on or before it" maxLength:"20"`
	Every     string `query:"every" enum:"day,week,month,quarter,year,1m,2m,5m,10m,15m,30m,1h,2h,4h" default:"day"`
	Adjust    string `query:"adjust" enum:"none,splits,full" default:"splits" doc:"none: as traded; splits: in today's shares; full: with dividends reinvested besides"`
	Columns   string `query:"columns" doc:"Of open, high, low, close, volume, joined by commas; all when left out" maxLength:"100"`
	Align     bool   `query:"align" doc:"Put all names on the same days"`
	Gaps      string `query:"gaps" enum:"blank,carry,drop" doc:"Days without a bar: blank, carry the last bar, or drop them; drop when left out, and with align blank"`
}

// query reads the days and the form that are asked for.
func (in *pricesInput) query(now time.Time) (q history.Query, err error) {
	today := period.DateOf(now.UTC())
	day := func(text, field string) period.Date {
		p, bad := period.Parse(text)
		if bad == nil && !p.IsDate() {
			bad = &period.SyntaxError{Text: text}
		}
		if bad != nil && err == nil {
			err = problem(http.StatusUnprocessableEntity, problemBadRequest, field, "%q is not a day: write it as 2026-01-31, -30d, -4w, -6m, -1y or today", text)
		}
		return p.Date(today)
	}
	q = history.Query{Every: series.Interval(in.Every), Adjust: history.Adjustment(in.Adjust)}
	if within, bad := time.ParseDuration(in.Every); bad == nil {
		q.Every, q.Within = series.Daily, within
		switch {
		case in.On != "":
			in.From, in.To, in.On = in.On, in.On, ""
		case in.From == "":
			in.From = "-1w"
		}
		if q.Adjust == history.Full {
			return q, hinted(problem(http.StatusUnprocessableEntity, problemBadRequest, "adjust", "bars within the day are not adjusted for dividends"), "Write adjust as splits or none, or ask for days.")
		}
	}
	if in.On != "" {
		q.On, q.To = true, day(in.On, "on")
		q.From = q.To
		return q, err
	}
	from := in.From
	if from == "" {
		from = "-1y"
	}
	q.From, q.To = day(from, "from"), day(in.To, "to")
	if err == nil && q.From > q.To {
		err = hinted(problem(http.StatusUnprocessableEntity, problemBadRequest, "from", "the range runs backwards: from %s to %s", q.From, q.To), "Exchange from and to.")
	}
	return q, err
}

// columns are the indices of the columns that are asked for, in their order.
func (in *pricesInput) columns() ([]int, error) {
	if in.Columns == "" {
		return []int{0, 1, 2, 3, 4}, nil
	}
	var out []int
	for _, name := range strings.Split(in.Columns, ",") {
		name = strings.TrimSpace(name)
		i := slices.IndexFunc(priceColumns, func(c priceColumn) bool { return c.name == name })
		switch {
		case name == "date":
			continue // it is always there
		case i < 0:
			return nil, problem(http.StatusUnprocessableEntity, problemBadRequest, "columns", "bars have no column %q; there are date, open, high, low, close and volume", name)
		case slices.Contains(out, i):
			return nil, problem(http.StatusUnprocessableEntity, problemBadRequest, "columns", "the column %q is asked for twice", name)
		}
		out = append(out, i)
	}
	return out, nil
}

// chosen is the list that a request means: symbols, or a watchlist.
func (s *Server) chosen(ctx context.Context, symbols, watchlist string) (*store.List, error) {
	switch {
	case symbols != "" && watchlist != "":
		return nil, problem(http.StatusUnprocessableEntity, problemBadRequest, "symbols", "name symbols or a watchlist, not both")
	case watchlist != "":
		return s.readable(ctx, watchlist)
	case symbols == "":
		return nil, problem(http.StatusUnprocessableEntity, problemBadRequest, "symbols", "name at least one symbol, or a watchlist")
	}
	return s.adHoc(strings.Split(symbols, ","))
}

func (s *Server) addPrices() {
	op := operation(http.MethodGet, "/api/v1/prices", "get-prices", "Prices through time: many names, any range, in one call", "history")
	op.Responses = map[string]*huma.Response{"200": {Description: "The bars", Content: map[string]*huma.MediaType{
		"application/json": {Schema: s.api.OpenAPI().Components.Schemas.Schema(reflect.TypeFor[wire.Prices](), true, "Prices")},
	}}}
	huma.Register(s.api, op, func(ctx context.Context, in *pricesInput) (*rawOutput, error) {
		now := s.Now()
		q, err := in.query(now)
		if err != nil {
			return nil, err
		}
		columns, err := in.columns()
		if err != nil {
			return nil, err
		}
		list, err := s.chosen(ctx, in.Symbols, in.Watchlist)
		if err != nil {
			return nil, err
		}
		first, _ := q.Every.Around(q.From)
		records, err := s.Book.Records(ctx, list.Rows, first-period.LongestBreak)
		if err != nil {
			return nil, asProblem(err, "")
		}
		if q.Within > 0 {
			if err := s.Book.AddIntraday(ctx, records); err != nil {
				return nil, asProblem(err, "")
			}
		}
		all := make([]*history.Prices, len(records))
		for i, r := range records {
			all[i] = history.Of(r, q, now, s.Limits)
		}
		head := wire.Prices{From: q.From.String(), To: q.To.String(), Every: in.Every, Adjust: string(q.Adjust)}
		return &rawOutput{ContentType: "application/json", Status: http.StatusOK, Body: s.appendPrices(head, all, columns, in.Align, history.Gaps(in.Gaps))}, nil
	})
	huma.Register(s.api, operation(http.MethodGet, "/api/v1/listings/{symbol}/dividends", "get-dividends", "The dividends of a listing: what was paid, by year, and what is coming", "history"),
		func(ctx context.Context, in *SymbolInput) (*body[wire.Dividends], error) {
			list, err := s.adHoc([]string{in.Symbol})
			if err != nil {
				return nil, err
			}
			records, err := s.Book.Records(ctx, list.Rows, 0)
			if err != nil {
				return nil, asProblem(err, "")
			}
			return answer(s.dividends(records[0])), nil
		})
}

// appendPrices writes the answer by hand: a column of numbers is most of it.
func (s *Server) appendPrices(head wire.Prices, all []*history.Prices, columns []int, align bool, gaps history.Gaps) []byte {
	if gaps == "" {
		gaps = history.Drop
		if align {
			gaps = history.Blank
		}
	}
	var moments []history.Moment
	var at [][]history.At
	if align {
		moments, at = history.Align(all, gaps)
	}
	b := []byte(`{"from":"` + head.From + `","to":"` + head.To + `","every":"` + head.Every + `","adjust":"` + head.Adjust + `","series":[`)
	for i, p := range all {
		if i > 0 {
			b = append(b, ',')
		}
		column := i
		if !align {
			moments, at = history.Align(all[i:i+1], gaps)
			column = 0
		}
		about := s.priceSeries(p)
		text, _ := json.Marshal(about) // plain values always marshal
		b = append(b, text[:len(text)-1]...)
		b = append(b, `,"bars":{"date":[`...)
		for j, m := range moments {
			if j > 0 {
				b = append(b, ',')
			}
			b = append(append(append(b, '"'), p.Written(m)...), '"')
		}
		b = append(b, ']')
		for _, c := range columns {
			numbers := priceColumns[c].of(&p.Bars)
			b = append(append(append(b, `,"`...), priceColumns[c].name...), `":[`...)
			for j := range at {
				if j > 0 {
					b = append(b, ',')
				}
				if k := at[j][column].Index; k >= 0 {
					b = cell.Of(numbers[k]).AppendJSON(b)
				} else {
					b = append(b, "null"...)
				}
			}
			b = append(b, ']')
		}
		b = appendIndices(b, "partial", len(at), func(j int) bool {
			k := at[j][column].Index
			return k >= 0 && p.Partial[k]
		})
		b = appendIndices(b, "carried", len(at), func(j int) bool { return at[j][column].Carried })
		b = append(b, "}}"...)
	}
	return append(b, "]}"...)
}

// appendIndices writes a list of those indices that meet a condition, if any does.
func appendIndices(b []byte, name string, n int, meets func(int) bool) []byte {
	start := len(b)
	b = append(append(append(b, `,"`...), name...), `":[`...)
	empty := true
	for i := range n {
		if meets(i) {
			if !empty {
				b = append(b, ',')
			}
			b, empty = strconv.AppendInt(b, int64(i), 10), false
		}
	}
	if empty {
		return b[:start]
	}
	return append(b, ']')
}

// aboutPrices is a series without its bars.
type aboutPrices struct {
	wire.PriceSeries
	Bars *struct{} `json:"bars,omitempty"` // written after it
}

func (s *Server) priceSeries(p *history.Prices) aboutPrices {
	c := &p.Account
	out := wire.PriceSeries{
		Listing: s.listing(p.Record.Listing), State: c.State.String(), Reason: c.Reason.String(), Detail: c.Detail, Flags: c.Flags.Names(), Source: c.Source,
		Observed: moment(c.Observed), Fetched: moment(c.Fetched), Provisional: p.Provisional, Remarks: p.Remarks,
	}
	for _, h := range p.Holes {
		because := "no data"
		if h.Untaken {
			because = "no trade"
		}
		out.Holes = append(out.Holes, wire.PriceHole{Date: h.Day.String(), Because: because})
	}
	for _, x := range p.Splits {
		out.Splits = append(out.Splits, wire.PriceSplit{Date: x.Day.String(), Ratio: x.Ratio})
	}
	for i := range p.Payments {
		out.Dividends = append(out.Dividends, payment(&p.Payments[i], p.Record))
	}
	return aboutPrices{PriceSeries: out}
}

func payment(p *dividend.Payment, r *table.Record) wire.Dividend {
	out := wire.Dividend{
		Ex: p.Ex.String(), Record: p.Record.String(), Pay: p.Pay.String(), Declared: p.Declared.String(),
		Amount: p.Amount, Adjusted: p.Adjusted, Currency: p.Currency, Kind: p.Kind, Expected: p.Expected,
	}
	if out.Currency == "" {
		out.Currency = r.Listing.Currency
	}
	if out.Kind == "" {
		out.Kind = dividend.Regular
	}
	return out
}

func (s *Server) dividends(r *table.Record) wire.Dividends {
	now := s.Now()
	c, given := r.Account(catalogue.Dividends, now, s.Limits)
	out := wire.Dividends{
		Listing: s.listing(r.Listing), State: c.State.String(), Reason: c.Reason.String(), Detail: c.Detail, Source: c.Source, Fetched: moment(c.Fetched),
		History: []wire.Dividend{}, Coming: []wire.Dividend{}, Years: []wire.DividendYear{},
	}
	if !catalogue.Info(catalogue.Dividends).Has(r.Listing.Kind) {
		out.State, out.Reason = cell.Missing.String(), cell.NotApplicable.String()
		return out
	}
	if given == nil {
		return out
	}
	today, h := r.Exchange.Today(now), given.Payments
	for i := len(h.By(today)) - 1; i >= 0; i-- {
		out.History = append(out.History, payment(&h[i], r))
	}
	coming := catalogue.Coming(r.Listing, h, today)
	for i := range coming {
		out.Coming = append(out.Coming, payment(&coming[i], r))
	}
	out.Overdue = h.Overdue(today, table.OverdueAfter).String()
	this := today.Time().Year()
	for year := this; h.First() > 0 && year >= h.First(); year-- {
		total := h.By(today).Year(year)
		y := wire.DividendYear{Year: year, Regular: total.Regular, Special: total.Special, Capital: total.Capital, Payments: total.Payments, Partial: year == this}
		if before := h.Year(year - 1).Regular; year < this && year > h.First() {
			growth := cell.Gap(cell.NotApplicable, "")
			if before > 0 {
				growth = cell.Cell{Value: cell.Of(total.Regular/before - 1)}
			}
			growth.Unit = string(catalogue.Percent)
			g := account(&growth)
			y.Growth = &g
		}
		out.Years = append(out.Years, y)
	}
	return out
}
