package market

import "soba.invalid/soba/internal/core/period"

// Kind is the kind of instrument a listing is.
type Kind string

// The kinds of instrument.
const (
	Share  Kind = "share"
	ETF    Kind = "etf"
	Fund   Kind = "fund"
	Bond   Kind = "bond"
	Pair   Kind = "pair"
	Index  Kind = "index"
	Future Kind = "future"
	Option Kind = "option"
)

// Kinds lists all kinds of instrument.
var Kinds = []Kind{Share, ETF, Fund, Bond, Pair, Index, Future, Option}

// Listing is one instrument traded on one exchange in one currency.
type Listing struct {
	ID       int64
	Symbol   Symbol
	ISIN     string
	Name     string
	Kind     Kind
	Currency string      // ISO 4217, always the major unit
	Issuer   string      // as a source identifies it; "" where none does
	Part     float64     // of the issuer's shares, that are of this class; 0 where there is but one
	Ended    period.Date // the last day it was traded, when it was delisted or matured
}

// EndedBy tells whether the listing had ended before the given day.
func (l *Listing) EndedBy(day period.Date) bool { return l.Ended != 0 && l.Ended < day }
