package standin

import (
	"fmt"
	"math"

	"soba.invalid/soba/internal/core/market"
)

// Words that the names of generated companies are made of.
var (
	places = []string{
		"Aldermoor", "Anchorhold", "Barnacle", "Bellrock", "Bracken", "Brinewell", "Calder Sound", "Causeway", "Cinderness", "Claywater",
		"Cormorant", "Crabtree Bay", "Dunmarrow", "Eastskerry", "Ebbstone", "Eiderholm", "Fairlead", "Fenmouth", "Gannister", "Greyshingle",
		"Gullhaven", "Hallow Point", "Heronsea", "Inchmarl", "Ironstrand", "Kestrel Head", "Lantern Isle", "Leeward", "Longreef", "Marlspike",
		"Merrow", "Millrace", "Mistral Cove", "Narrowgate", "Netherquay", "Oystermouth", "Pebblewick", "Petrel", "Pinnace", "Plumbline",
		"Ravensound", "Redbeacon", "Rushwater", "Saltmarsh", "Sandpiper", "Seagate", "Shearwater", "Silverspit", "Southlight", "Spindrift",
		"Stonechat", "Sundergate", "Tamarisk", "Ternhaven", "Thornsea", "Tidewick", "Undertow", "Wavecrest", "Westering", "Whinstone",
	}
	trades = []struct{ name, sector, industry string }{
		{"Ferries", "Sea transport", "Passenger ferries"},
		{"Freight", "Sea transport", "Coastal freight"},
		{"Tugs", "Sea transport", "Towage"},
		{"Kelp", "Sea farming", "Kelp growing and drying"},
		{"Mussels", "Sea farming", "Mussel growing"},
		{"Oysters", "Sea farming", "Oyster growing"},
		{"Salt", "Minerals", "Solar salt"},
		{"Quarries", "Minerals", "Stone"},
		{"Tidal", "Power", "Tidal power"},
		{"Wind", "Power", "Wind power"},
		{"Glass", "Crafts", "Glass"},
		{"Charts", "Crafts", "Sea charts"},
		{"Boatyard", "Sea works", "Boat building"},
		{"Cables", "Sea works", "Submarine cables"},
		{"Dredging", "Sea works", "Dredging"},
		{"Cold Stores", "Storage", "Cold stores"},
		{"Warehouses", "Storage", "Warehouses"},
		{"Chandlers", "Supplies", "Ship chandlers"},
		{"Sailcloth", "Supplies", "Sailcloth"},
		{"Provisions", "Supplies", "Ships' provisions"},
		{"Bank", "Finance", "Banking"},
		{"Mutual", "Finance", "Insurance"},
		{"Moorings", "Property", "Moorings and quays"},
		{"Lodgings", "Property", "Inns"},
	}
)

// generate adds companies made up from the seed, each named for a place and a trade.
func (m *Market) generate(count int) {
	codes := m.Exchanges.Codes()
	for i := range max(count, 0) {
		r := m.random("company", fmt.Sprint(i))
		place, trade := places[r.IntN(len(places))], trades[r.IntN(len(trades))]
		e := m.Exchanges[codes[r.IntN(len(codes))]]
		symbol := market.Symbol{Exchange: e.Code}
		for symbol.Ticker == "" || m.bySymbol[symbol] != nil {
			symbol.Ticker = string([]byte{place[0] &^ 32, letter(r.IntN(26)), trade.name[0] &^ 32, letter(r.IntN(26))})
			if i > 2000 {
				symbol.Ticker += string(letter(r.IntN(26)))
			}
		}
		price := math.Exp(1 + 3*r.Float64())
		switch e.Currency {
		case "JPY":
			price *= 100
		case "GBP":
			price /= 4
		}
		l := instrument(market.Share, symbol.String(), place+" "+trade.name, e.Country, e.Currency, price)
		l.Sector, l.Industry, l.Employees, l.YearEnd = trade.sector, trade.industry, int(math.Exp(3+6*r.Float64())), "--12-31"
		l.Description = l.Name + ": " + trade.industry + "."
		l.drift, l.volatility, l.volume = 0.0002+0.0004*r.NormFloat64(), 0.008+0.018*r.Float64(), math.Exp(9+5*r.Float64())
		if r.IntN(3) > 0 {
			l.Payer = payer{yield: 0.01 + 0.05*r.Float64(), times: []int{1, 2, 2, 4}[r.IntN(4)], growth: 0.06*r.Float64() - 0.005}
		}
		l.story.losing = r.IntN(12) == 0
		m.add(l)
	}
}

// fixed are the currencies that the central bank fixes against the euro, with
// about their rates.
var fixed = []struct {
	code string
	rate float64
}{
	{"AUD", 1.65},
	{"BGN", 1.9558},
	{"BRL", 5.9},
	{"CAD", 1.5},
	{"CHF", 0.94},
	{"CNY", 7.8},
	{"CZK", 25.1},
	{"DKK", 7.46},
	{"GBP", 0.854},
	{"HKD", 8.5},
	{"HUF", 395},
	{"IDR", 17600},
	{"ILS", 4},
	{"INR", 92},
	{"ISK", 149},
	{"JPY", 162},
	{"KRW", 1490},
	{"MXN", 20.5},
	{"MYR", 4.8},
	{"NOK", 11.7},
	{"NZD", 1.83},
	{"PHP", 63},
	{"PLN", 4.27},
	{"RON", 4.97},
	{"SEK", 11.4},
	{"SGD", 1.43},
	{"THB", 37},
	{"TRY", 38},
	{"USD", 1.085},
	{"ZAR", 20},
}

// fixings makes the pairs of the central bank; those that are traded move with
// their trade.
func (m *Market) fixings() {
	for _, f := range fixed {
		symbol := market.Symbol{Ticker: "EUR", Exchange: f.code}
		l := m.bySymbol[symbol]
		if l == nil {
			l = pair(symbol.String(), f.rate)
			l.own = m.random(symbol.String()).Uint64()
		}
		m.Rates = append(m.Rates, l)
	}
}

func letter(i int) byte { return byte('A' + i) }
