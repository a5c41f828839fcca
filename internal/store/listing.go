package store

import (
	"cmp"
	"context"
	"slices"
	"time"

	"github.com/jackc/pgx/v5"

	"soba.invalid/soba/internal/core/market"
	"soba.invalid/soba/internal/core/period"
)

type listingRow struct {
	ID       int64
	Symbol   string
	ISIN     string
	Name     string
	Kind     string
	Currency string
	Issuer   string
	Part     float64
	Ended    *time.Time
}

// Listings returns every listing that any source has named.
func (s *Store) Listings(ctx context.Context) ([]*market.Listing, error) {
	rows, err := all[listingRow](ctx, s.Pool, "select id, symbol, isin, name, kind, currency, issuer, part, ended from listing order by symbol")
	if err != nil {
		return nil, err
	}
	listings := make([]*market.Listing, len(rows))
	for i, r := range rows {
		symbol, err := market.ParseSymbol(r.Symbol)
		if err != nil {
			return nil, err
		}
		listings[i] = &market.Listing{ID: r.ID, Symbol: symbol, ISIN: r.ISIN, Name: r.Name, Kind: market.Kind(r.Kind), Currency: r.Currency, Issuer: r.Issuer, Part: r.Part, Ended: dateOf(r.Ended)}
	}
	return listings, nil
}

func dateOf(t *time.Time) period.Date {
	if t == nil {
		return 0
	}
	return period.DateOf(*t)
}

func nullable(d period.Date) *time.Time {
	if d == 0 {
		return nil
	}
	t := d.Time()
	return &t
}

// saveListings adds listings and brings those that are there up to date.
func saveListings(ctx context.Context, tx pgx.Tx, listings []market.Listing, now time.Time) error {
	// In one order, so that two sources that list the same do not wait for each other.
	listings = slices.SortedFunc(slices.Values(listings), func(a, b market.Listing) int { return cmp.Compare(a.Symbol.String(), b.Symbol.String()) })
	batch := &pgx.Batch{}
	for _, l := range listings {
		batch.Queue(`
			insert into listing (symbol, isin, name, kind, currency, issuer, part, ended, known_from) values ($1, $2, $3, $4, $5, $6, $7, $8, $9)
			on conflict (symbol) do update set isin = excluded.isin, name = excluded.name, kind = excluded.kind, currency = excluded.currency, issuer = excluded.issuer, part = excluded.part, ended = excluded.ended
			where (listing.isin, listing.name, listing.kind, listing.currency, listing.issuer, listing.part, listing.ended) is distinct from (excluded.isin, excluded.name, excluded.kind, excluded.currency, excluded.issuer, excluded.part, excluded.ended)`,
			l.Symbol.String(), l.ISIN, l.Name, string(l.Kind), l.Currency, l.Issuer, l.Part, nullable(l.Ended), now)
	}
	return tx.SendBatch(ctx, batch).Close()
}
