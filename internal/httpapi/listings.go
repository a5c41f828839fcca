package httpapi

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"soba.invalid/soba/internal/core/catalogue"
	"soba.invalid/soba/internal/core/market"
	"soba.invalid/soba/internal/wire"
)

// body is an answer in JSON.
type body[T any] struct{ Body T }

func answer[T any](v T) *body[T] { return &body[T]{v} }

func (s *Server) listing(l *market.Listing) wire.Listing {
	out := listing(l)
	out.Exchange = s.Book.Exchange(l).Name
	return out
}

func listing(l *market.Listing) wire.Listing {
	return wire.Listing{Symbol: l.Symbol.String(), Name: l.Name, ISIN: l.ISIN, Kind: string(l.Kind), Currency: l.Currency, Ended: l.Ended.String()}
}

func listings(all []*market.Listing) []wire.Listing {
	out := make([]wire.Listing, len(all))
	for i, l := range all {
		out[i] = listing(l)
	}
	return out
}

type searchInput struct {
	Query string `query:"query" doc:"Beginning of a ticker, a word of the name, or an ISIN" maxLength:"100"`
	Limit int    `query:"limit" default:"20" minimum:"1" maximum:"200"`
}

// SymbolInput names a listing.
type SymbolInput struct {
	Symbol string `path:"symbol" doc:"Symbol, ISIN, or a ticker that only one listing has; a pair is EUR-USD" maxLength:"60"`
}

func (s *Server) addListings() {
	huma.Register(s.api, operation(http.MethodGet, "/api/v1/listings", "search-listings", "Find listings by name, ticker or ISIN while typing", "listings"),
		func(_ context.Context, in *searchInput) (*body[wire.Listings], error) {
			found := s.Book.Directory().Search(in.Query, in.Limit)
			out := wire.Listings{Listings: make([]wire.Listing, len(found))}
			for i, l := range found {
				out.Listings[i] = s.listing(l)
			}
			return answer(out), nil
		})
	huma.Register(s.api, operation(http.MethodGet, "/api/v1/listings/{symbol}", "get-listing", "One listing", "listings"),
		func(_ context.Context, in *SymbolInput) (*body[wire.Listing], error) {
			l, err := s.Book.Directory().Resolve(in.Symbol)
			if err != nil {
				return nil, asProblem(err, "symbol")
			}
			return answer(s.listing(l)), nil
		})
	type fieldsInput struct {
		Query string `query:"query" doc:"Words of the id, the label or the definition" maxLength:"100"`
	}
	huma.Register(s.api, operation(http.MethodGet, "/api/v1/fields", "search-fields", "The catalogue of fields, and the views", "fields"),
		func(_ context.Context, in *fieldsInput) (*body[wire.Catalogue], error) {
			out := wire.Catalogue{Fields: []wire.Field{}}
			for _, f := range catalogue.Search(in.Query) {
				out.Fields = append(out.Fields, field(f))
			}
			for _, v := range catalogue.Views {
				out.Views = append(out.Views, wire.View(v))
			}
			return answer(out), nil
		})
	huma.Register(s.api, operation(http.MethodGet, "/api/v1/status", "get-status", "The state of the service and of the exchanges", "service"),
		func(ctx context.Context, _ *struct{}) (*body[wire.Status], error) {
			now := s.Now()
			out := wire.Status{Version: s.Version, Now: now.UTC(), Database: "ready", Listings: len(s.Book.Directory().Ordered)}
			if s.Book.Away() {
				out.Database = "away"
			}
			exchanges := s.Book.Exchanges()
			for _, code := range exchanges.Codes() {
				out.Exchanges = append(out.Exchanges, phase(exchanges[code], now))
			}
			return answer(out), nil
		})
}

func field(f *catalogue.Field) wire.Field {
	out := wire.Field{ID: f.ID, Label: f.Label, Unit: string(f.Unit), Dataset: string(f.Dataset), Span: f.Span, Takes: f.Takes.String(), Definition: f.Definition, Reference: f.Reference}
	if f.Formula != nil {
		out.Formula = f.Formula.String()
	}
	for _, k := range f.NotFor {
		out.NotFor = append(out.NotFor, string(k))
	}
	return out
}
