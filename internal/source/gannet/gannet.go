// Package gannet reads the vendor gannet: JSON over HTTP, with a key in a header.
package gannet

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"

	"soba.invalid/soba/internal/core/catalogue"
	"soba.invalid/soba/internal/core/cell"
	"soba.invalid/soba/internal/core/market"
	"soba.invalid/soba/internal/core/plan"
	"soba.invalid/soba/internal/source"
)

// Name of the source.
const Name = "gannet"

// Gannet is the source.
type Gannet struct {
	Base   string // address of the service
	Key    string
	Client *http.Client
	Limits source.Limits
	Now    func() time.Time
}

var _ source.Source = (*Gannet)(nil)

// Describe says what gannet serves, by its terms of use.
func (g *Gannet) Describe() source.Description {
	return source.Description{
		Name: Name, Title: "Gannet market data", Licence: "For the subscriber's own use.", Address: g.Base,
		Delay: 15 * time.Minute, PerSecond: 5, Concurrent: 4, UnitsPerDay: 20_000,
		KeySetting: "gannet-key", HasKey: g.Key != "",
		Offers: []plan.Offer{
			{Dataset: catalogue.Listings, Batch: 1, UnitsPerRequest: 10},
			{Dataset: catalogue.Quotes, Batch: 100, UnitsPerSymbol: 1},
			{Dataset: catalogue.Bars, Batch: 100, UnitsPerSymbol: 2},
			{Dataset: catalogue.Profiles, Batch: 100, UnitsPerSymbol: 1},
		},
	}
}

// Fetch carries out one request.
func (g *Gannet) Fetch(ctx context.Context, q plan.Request) (*source.Answer, error) {
	query := url.Values{}
	needs := map[string]plan.Need{}
	if q.Dataset == catalogue.Listings {
		query.Set("exchange", vendorExchange(q.Needs[0].Symbol.Exchange))
	} else {
		symbols := make([]string, len(q.Needs))
		for i, n := range q.Needs {
			symbols[i] = vendorSymbol(n.Symbol)
			needs[symbols[i]] = n
		}
		query.Set("symbols", strings.Join(symbols, ","))
	}
	if q.Dataset == catalogue.Bars {
		query.Set("from", q.From.String())
		query.Set("to", q.To.String())
	}
	address := g.Base + "/v1/" + string(q.Dataset) + "?" + query.Encode()
	header := http.Header{"X-Gannet-Key": {g.Key}, "Accept": {"application/json"}}
	a, replied, err := source.Get(ctx, g.Client, address, header, g.Limits)
	if replied != nil {
		a.Call.Units, _ = strconv.Atoi(replied.Get("X-Units-Spent"))
		if left, err := strconv.Atoi(replied.Get("X-Units-Left")); err == nil {
			a.Call.UnitsLeft = left
		}
	}
	if err != nil {
		if f, ok := err.(*source.Fault); ok && f.Status != 0 {
			f.Detail = said(a).Message
		}
		return a, err
	}
	if a.Call.Status != http.StatusOK {
		return a, refusal(a)
	}
	d := decoder{needs: needs, request: q, now: g.Now(), answer: a}
	if err := d.decode(); err != nil {
		a.Points, a.Series, a.Listings, a.Failures = nil, nil, nil, nil
		return a, &source.Fault{Kind: source.Malformed, Status: a.Call.Status, Detail: err.Error()}
	}
	return a, nil
}

// said is how gannet explains an answer without data. The message is never empty.
func said(a *source.Answer) (s struct {
	Error, Message string
	Symbols        []string
},
) {
	if json.Unmarshal(a.Body, &s) != nil || s.Message == "" {
		s.Message = a.Excerpt()
	}
	return s
}

// refusal tells apart why gannet did not answer with data.
func refusal(a *source.Answer) *source.Fault {
	said := said(a)
	f := &source.Fault{Kind: source.Refused, Status: a.Call.Status, Detail: said.Message}
	switch a.Call.Status {
	case http.StatusUnauthorized:
		f.Kind = source.KeyInvalid
	case http.StatusForbidden:
		f.Kind = source.PlanLacks
	case http.StatusPaymentRequired:
		f.Kind = source.AllowanceGone
	case http.StatusUnprocessableEntity:
		f.Kind = source.UnknownInside
		for _, s := range said.Symbols {
			if symbol, ok := readSymbol(s); ok {
				f.Culprits = append(f.Culprits, symbol)
			}
		}
	}
	return f
}

func vendorExchange(code string) string {
	if code == "" {
		return "FX"
	}
	return code
}

func vendorSymbol(s market.Symbol) string {
	if s.IsPair() {
		return "FX:" + s.Ticker + s.Exchange
	}
	return s.Exchange + ":" + s.Ticker
}

func readSymbol(text string) (market.Symbol, bool) {
	exchange, ticker, found := strings.Cut(text, ":")
	if exchange == "FX" && len(ticker) == 6 {
		return market.Symbol{Ticker: ticker[:3], Exchange: ticker[3:]}, true
	}
	s, err := market.ParseSymbol(ticker + "." + exchange)
	return s, found && err == nil
}

// explain sorts the symbols that brought no data by the reason gannet gives.
func (d *decoder) explain(unknown []string, errors []symbolError, answered map[market.Symbol]bool) {
	fail := func(text string, reason cell.Reason, detail string) {
		n, asked := d.needs[text]
		if asked && !answered[n.Symbol] {
			answered[n.Symbol] = true
			d.answer.Failures = append(d.answer.Failures, source.Failure{Symbol: n.Symbol, Reason: reason, Detail: detail})
		}
	}
	for _, s := range unknown {
		fail(s, cell.NotCovered, "gannet does not carry it")
	}
	for _, e := range errors {
		reason := cell.FetchFailed
		if e.Code == "plan" {
			reason = cell.NotPermitted
		}
		fail(e.Symbol, reason, e.Message)
	}
	for _, n := range d.request.Needs {
		if !answered[n.Symbol] {
			d.answer.Failures = append(d.answer.Failures, source.Failure{Symbol: n.Symbol, Reason: cell.NotReported, Detail: fmt.Sprintf("gannet's answer leaves out %s", n.Symbol)})
		}
	}
}
