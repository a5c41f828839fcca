package standin

import (
	"time"

	"soba.invalid/soba/internal/core/market"
	"soba.invalid/soba/internal/core/period"
	"soba.invalid/soba/internal/core/series"
)

// written are the listings written by hand, one for every case of the job. Some
// of their dates count back from today, so that what they show stays true.
func written(today period.Date) []*Listing {
	workday := func(back int) period.Date {
		d := today.AddDays(-back)
		for d.Weekday() == time.Saturday || d.Weekday() == time.Sunday {
			d--
		}
		return d
	}
	share := func(symbol, name, country, currency, sector, industry string, employees int, yearEnd string, start float64) *Listing {
		l := instrument(market.Share, symbol, name, country, currency, start)
		l.Sector, l.Industry, l.Employees, l.YearEnd = sector, industry, employees, yearEnd
		l.Description = name + ": " + industry + "."
		return l
	}
	with := func(l *Listing, change func(*Listing)) *Listing { change(l); return l }
	const december, june = "--12-31", "--06-30"
	return []*Listing{
		with(share("KELP.XCVH", "Marram Kelp Farms", "XA", "EUR", "Sea farming", "Kelp growing and drying", 2140, december, 24), func(l *Listing) { l.Payer = payer{yield: 0.031, times: 4, growth: 0.06} }),
		with(share("FERY.XCVH", "Interisle Ferry Line", "XA", "EUR", "Sea transport", "Passenger ferries", 5210, december, 41), func(l *Listing) { l.Payer = payer{yield: 0.042, times: 2, growth: 0.02, special: 2024} }),
		with(share("SALT.XCVH", "Whitepan Salt Works", "XA", "EUR", "Minerals", "Solar salt", 880, december, 12.5), func(l *Listing) { l.Payer = payer{yield: 0.055, times: 2, growth: 0.01, cut: 2023} }),
		with(share("CABL.XNMK", "Deepline Cable Layers", "XB", "GBP", "Sea works", "Submarine cables", 3900, december, 6.4), func(l *Listing) { l.Payer = payer{yield: 0.028, times: 2, growth: 0.04}; l.story.misreckoned = true }),
		share("TIDE.XPLR", "Slackwater Tidal Power", "XD", "USD", "Power", "Tidal power", 640, december, 18),
		with(share("GLAS.XCVH", "Blowing Point Glassworks", "XA", "EUR", "Crafts", "Glass", 420, december, 7.8), func(l *Listing) { l.story.restates = true }),
		with(share("HBNK.XCVH", "Harbour Bank of Vela", "XA", "EUR", "Finance", "Banking", 6700, december, 33), func(l *Listing) { l.Payer = payer{yield: 0.058, times: 1, growth: 0.03} }),
		with(share("MUTL.XNMK", "Mariners' Mutual Assurance", "XB", "GBP", "Finance", "Insurance", 2950, december, 4.2), func(l *Listing) { l.Payer = payer{yield: 0.049, times: 2, growth: 0.03} }),
		with(share("QUAY.XNMK", "Quayside Property Trust", "XB", "GBP", "Property", "Warehouses and quays", 95, december, 8.1), func(l *Listing) { l.Payer = payer{yield: 0.064, times: 4, growth: 0.015}; l.story.halves = true }),
		with(share("CHRT.XNMK", "Fathom Chart Makers", "XB", "GBP", "Crafts", "Sea charts", 310, june, 2.3), func(l *Listing) { l.Payer = payer{yield: 0.022, times: 2, growth: 0.05}; l.story.late = true }),
		with(share("COLD.XTSG", "Kitanami Cold Stores", "XC", "JPY", "Storage", "Cold stores", 1800, "--03-31", 2400), func(l *Listing) { l.Payer = payer{yield: 0.019, times: 2, growth: 0.03} }),
		with(share("CHAN.A.XPLR", "Ropewalk Chandlers A", "XD", "USD", "Supplies", "Ship chandlers", 1250, december, 52), func(l *Listing) { l.Payer = payer{yield: 0.024, times: 4, growth: 0.05}; l.part = 0.6 }),
		with(share("CHAN.B.XPLR", "Ropewalk Chandlers B", "XD", "USD", "Supplies", "Ship chandlers", 1250, december, 50), func(l *Listing) {
			l.Payer = payer{yield: 0.026, times: 4, growth: 0.05}
			l.part = 0.4
			l.story.issuer = "CHAN.A.XPLR"
		}),
		with(share("MUSL.XCVH", "Blue Rope Mussels", "XA", "EUR", "Sea farming", "Mussel growing", 560, december, 9), func(l *Listing) { l.Payer = payer{yield: 0.033, times: 2, growth: 0.03}; l.ISIN = twoExchangesISIN }),
		with(share("MUSL.XNMK", "Blue Rope Mussels", "XA", "GBP", "Sea farming", "Mussel growing", 560, december, 7.7), func(l *Listing) {
			l.Payer = payer{yield: 0.033, times: 2, growth: 0.03}
			l.ISIN = twoExchangesISIN
			l.story.issuer = "MUSL.XCVH"
		}),
		with(share("WIND.XCVH", "Skerry Wind", "XA", "EUR", "Power", "Wind power", 1330, december, 96), func(l *Listing) {
			l.Payer = payer{yield: 0.018, times: 2, growth: 0.07}
			l.Splits = []series.Split{{Day: workday(120), Ratio: 3}}
		}),
		with(share("DREG.XPLR", "Spoilbank Dredging", "XD", "USD", "Sea works", "Dredging", 2210, december, 1.1), func(l *Listing) { l.Splits = []series.Split{{Day: workday(80), Ratio: 0.1}} }),
		with(share("BUOY.XCVH", "Signal Buoy Works", "XA", "EUR", "Supplies", "Buoys and lights", 230, december, 15), func(l *Listing) { l.Since = workday(150) }),
		with(share("ROPE.XNMK", "Hempline Rope", "XB", "GBP", "Supplies", "Rope", 340, december, 1.2), func(l *Listing) { l.Payer = payer{yield: 0.03, times: 2}; l.Ended = workday(60); l.drift = -0.0012 }),
		with(share("NETS.XPLR", "Driftnet Industries", "XD", "USD", "Supplies", "Nets", 910, december, 28), func(l *Listing) { l.Ended = workday(25) }),
		with(share("LRCH.XCVH", "Larchwood Shipyards", "XA", "EUR", "Sea works", "Shipbuilding", 4800, december, 22), func(l *Listing) { l.Payer = payer{yield: 0.037, times: 1, growth: 0.02, stopped: 2025} }),
		with(share("LIME.XTSG", "Limpet Lime Kilns", "XC", "JPY", "Minerals", "Lime", 270, "--03-31", 640), func(l *Listing) { l.story.uncovered = true }),
		with(share("PEAT.XNMK", "Blackmoss Peat", "XB", "GBP", "Minerals", "Peat", 190, december, 3.3), func(l *Listing) { l.story.unavailable = "history store is rebuilding" }),
		with(share("LAMP.XPLR", "Lamplight Signals", "XD", "USD", "Supplies", "Signal lamps", 520, december, 11), func(l *Listing) { l.story.suspended = workday(12) }),
		with(share("OARS.XCVH", "Ashgrain Oars", "XA", "EUR", "Crafts", "Oars and spars", 75, december, 4.6), func(l *Listing) { l.story.badText = "n/a*" }),
		with(share("FOGG.XPLR", "Foghorn Acoustics", "XD", "USD", "Supplies", "Fog signals", 330, december, 36), func(l *Listing) {
			l.story.gapFrom, l.story.gapTo = workday(210), workday(180)
			l.story.miskeyed = true
		}),
		with(share("ALGA.XPLR", "Greentide Algal Oils", "XD", "USD", "Sea farming", "Algal oils", 48, december, 140), func(l *Listing) { l.story.losing = true }),
		with(share("S&T.XNMK", "Sextant & Telltale", "XB", "GBP", "Crafts", "Instruments", 610, june, 12), func(l *Listing) { l.story.unfollowed = true }),
		with(share("SHIO.XTSG", "潮見ガラス", "XC", "JPY", "Crafts", "Glass", 980, "--03-31", 1180), func(l *Listing) { l.Payer = payer{yield: 0.015, times: 1, growth: 0.02}; l.story.standalone = true }),
		with(instrument(market.ETF, "ISLE.XCVH", "Archipelago Fifty Tracker", "XA", "EUR", 61), func(l *Listing) { l.Payer = payer{yield: 0.023, times: 4, growth: 0.03} }),
		with(instrument(market.Fund, "LBAL.XCVH", "Longshore Balanced Fund", "XA", "EUR", 118), func(l *Listing) {
			l.Payer = payer{yield: 0.018, times: 1, growth: 0.02}
			l.story.noDepth = true
			l.volatility = 0.004
		}),
		bond("HB31.XCVH", "Harbour Bank 3.25 % 2031", "XA", "EUR", 99.2),
		bond("TD29.XPLR", "Slackwater Tidal 4.5 % 2029", "XD", "USD", 101.1),
		bond("VZ28.XCVH", "Vela Treasury zero 2028", "XA", "EUR", 91.4),
		with(bond("VT25.XCVH", "Vela Treasury 1 % 2025", "XA", "EUR", 100), func(l *Listing) { l.Ended = period.MakeDate(2025, 6, 30); l.story.uncovered = true }),
		pair("EUR/USD", 1.0850), pair("EUR/GBP", 0.8540), pair("USD/JPY", 149.3),
		instrument(market.Index, "CV50.XCVH", "Vela Harbour 50", "XA", "EUR", 4200),
		instrument(market.Index, "NM30.XNMK", "North Mark 30", "XB", "GBP", 1810),
		instrument(market.Index, "TSUG.XTSG", "Tsugumi All Share", "XC", "JPY", 2760),
		instrument(market.Index, "PL40.XPLR", "Port Larch 40", "XD", "USD", 980),
		with(instrument(market.Future, "KLPF.XCVH", "Marram Kelp Farms future, next June", "XA", "EUR", 24.4), func(l *Listing) { l.story.plan = "derivatives" }),
		with(instrument(market.Option, "KLPC.XCVH", "Marram Kelp Farms call 30, next June", "XA", "EUR", 1.9), func(l *Listing) { l.story.plan = "derivatives" }),
	}
}

// twoExchangesISIN belongs to one share traded on two exchanges.
const twoExchangesISIN = "XA000BLUEM12"

func instrument(kind market.Kind, symbol, name, country, currency string, start float64) *Listing {
	s, err := market.ParseSymbol(symbol)
	if err != nil {
		panic(err)
	}
	l := &Listing{
		Listing: market.Listing{Symbol: s, Name: name, Kind: kind, Currency: currency},
		Country: country, Website: "https://" + asciiLower(s.Ticker) + ".invalid", start: start, drift: 0.0002, volatility: 0.014, volume: 240_000,
	}
	return l
}

func bond(symbol, name, country, currency string, start float64) *Listing {
	l := instrument(market.Bond, symbol, name, country, currency, start)
	l.drift, l.volatility, l.volume = 0, 0.0015, 3000
	l.Sector, l.Industry = "Debt", "Bonds"
	return l
}

func pair(symbol string, start float64) *Listing {
	l := instrument(market.Pair, symbol, symbol, "", symbol[4:], start)
	l.drift, l.volatility = 0, 0.004
	return l
}

func asciiLower(s string) string {
	var out []byte
	for i := range len(s) {
		switch c := s[i]; {
		case c >= 'A' && c <= 'Z':
			out = append(out, c+'a'-'A')
		case c >= '0' && c <= '9':
			out = append(out, c)
		}
	}
	return string(out)
}
