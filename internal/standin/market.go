// Package standin simulates the outside world: a made-up archipelago market and
// the vendors that report on it, over real HTTP. The market is a function of a
// seed and the clock, so that any two runs agree on every price.
package standin

import (
	"hash/fnv"
	"math"
	"math/rand/v2"
	"sync"
	"time"

	"soba.invalid/soba/internal/core/market"
	"soba.invalid/soba/internal/core/period"
	"soba.invalid/soba/internal/core/series"
)

// Market is the made-up market. It is safe for concurrent use.
type Market struct {
	Exchanges market.Exchanges
	Listings  []*Listing
	Rates     []*Listing // pairs that the central bank fixes
	Clock     func() time.Time

	seed     uint64
	bySymbol map[market.Symbol]*Listing
}

// Listing is one instrument of the market with what makes it move.
type Listing struct {
	market.Listing
	Country, Sector, Industry     string
	Employees                     int
	YearEnd, Website, Description string
	Since                         period.Date
	Splits                        []series.Split
	Payer                         payer
	part                          float64 // of the issuer's shares that are of this class; 0: all
	story                         story

	start, drift, volatility float64 // price as written, in the shares of the epoch; daily mean and deviation of log returns
	volume                   float64 // usual volume of a session
	own                      uint64  // what its chance begins from
	tide                     uint64  // what the chance of its exchange begins from
	swayed                   float64 // correlation of its moves with those of its exchange

	mu    sync.Mutex
	years map[int]path // closes of the years that were asked for

	accounts   []Accounts // up to a day
	accountsBy period.Date
}

// path is the unrounded close of each session of a year, as a logarithm and in
// the shares of the epoch.
type path struct {
	days   []period.Date
	closes []float64
}

// story is what goes wrong with a listing, or with how vendors report on it.
type story struct {
	suspended   period.Date // no trades after this day
	gapFrom     period.Date // the vendor lost the bars of this stretch
	gapTo       period.Date
	badText     string // comes in place of the last price
	noDepth     bool   // no bid and ask
	uncovered   bool   // the vendor lists it but carries no data
	unavailable string // the vendor's history of it fails, with this message
	plan        string // only in this plan of the vendor
	losing      bool   // earns nothing but losses
	standalone  bool   // publishes no consolidated accounts
	halves      bool   // publishes halves and years, no quarters
	late        bool   // has published nothing for a good while
	unfollowed  bool   // by any analyst
	miskeyed    bool   // a vendor has a line of its newest year wrong by a digit
	restates    bool   // has put right what it had reported of the year before the newest
	issuer      string // the listing whose accounts are those of this one's issuer, where that is another
	misreckoned bool   // the vendor divides its price by the earnings of another year
}

// epoch is the first year of the walk of every price: twenty years and some back.
const epoch = 2004

// New makes a market of a number of listings, the first of them written by hand.
func New(exchanges market.Exchanges, seed uint64, listings int, clock func() time.Time) *Market {
	m := &Market{Exchanges: exchanges, Clock: clock, seed: seed, bySymbol: map[market.Symbol]*Listing{}}
	for _, l := range written(period.DateOf(clock().UTC())) {
		m.add(l)
	}
	m.generate(listings - len(m.Listings))
	m.fixings()
	return m
}

func (m *Market) add(l *Listing) {
	r := m.random(l.Symbol.String())
	l.own = r.Uint64()
	l.tide = m.random("tide", l.Symbol.Exchange).Uint64()
	switch l.Kind {
	case market.Index:
		l.swayed, l.volatility = 1, 0.009
	case market.Share, market.ETF, market.Fund:
		l.swayed = 0.3 + 0.5*m.random("sway", l.Symbol.String()).Float64()
	}
	if l.ISIN == "" && l.Kind != market.Index && l.Kind != market.Pair {
		l.ISIN = madeUpISIN(l.Country, r)
	}
	if l.Since == 0 {
		l.Since = period.MakeDate(1985+r.IntN(34), time.Month(1+r.IntN(12)), 1+r.IntN(28))
	}
	l.ID = int64(len(m.Listings) + 1)
	m.Listings = append(m.Listings, l)
	m.bySymbol[l.Symbol] = l
}

// writtenYear is the year at whose start prices are as they were written by hand.
const writtenYear = 2022

// Find returns a listing by symbol, or nil.
func (m *Market) Find(s market.Symbol) *Listing { return m.bySymbol[s] }

// random is a generator that depends on the seed and the words alone.
func (m *Market) random(words ...string) *rand.Rand {
	h := fnv.New64a()
	for _, w := range words {
		h.Write([]byte(w))
		h.Write([]byte{0})
	}
	return rand.New(rand.NewPCG(m.seed, h.Sum64()))
}

func madeUpISIN(country string, r *rand.Rand) string {
	const letters = "0123456789ABCDEFGHIJKLMNOPQRSTUVWXYZ"
	body := []byte(country + "000000000")
	for i := 5; i < 11; i++ {
		body[i] = letters[r.IntN(len(letters))]
	}
	return string(body) + string(market.ISINCheckDigit(string(body)))
}

// Bars returns the raw bars of a listing up to the last session that has closed,
// as it was traded: prices in the shares of their day.
func (m *Market) Bars(l *Listing) series.Bars {
	return m.BarsIn(l, period.MakeDate(epoch, 1, 1), m.Exchanges.Of(&l.Listing).LastClosed(m.Clock(), 0).Date)
}

// BarsIn returns the raw bars of a range of days.
func (m *Market) BarsIn(l *Listing, from, to period.Date) (out series.Bars) {
	from, to = max(from, l.Since, period.MakeDate(epoch, 1, 1)), min(to, l.lastDay())
	for year := from.Time().Year(); year <= to.Time().Year() && from <= to; year++ {
		p := m.year(l, year)
		for i, day := range p.days {
			if day >= from && day <= to {
				open, high, low, cl, volume := m.bar(l, p, i)
				out.Append(day, open, high, low, cl, volume)
			}
		}
	}
	return out
}

// lastDay is the last day on which the listing can have been traded.
func (l *Listing) lastDay() period.Date {
	last := period.MakeDate(2200, 1, 1)
	if l.Ended != 0 {
		last = l.Ended
	}
	if l.story.suspended != 0 {
		last = min(last, l.story.suspended)
	}
	return last
}

// anchor is where the walk of a price stands at the start of a year. It goes out
// from the price as it was written, forward and back.
func (m *Market) anchor(l *Listing, year int) float64 {
	level := math.Log(l.start)
	step := func(y int) float64 {
		return 252*l.drift + math.Sqrt(252)*l.volatility*l.chance(uint64(y))
	}
	for y := writtenYear; y < year; y++ {
		level += step(y)
	}
	for y := year; y < writtenYear; y++ {
		level -= step(y)
	}
	return level
}

// chance is the normal deviate of a day or a year, in part that of the exchange.
func (l *Listing) chance(when uint64) float64 {
	own := rand.New(rand.NewPCG(l.own, when)).NormFloat64()
	if l.swayed == 0 {
		return own
	}
	common := rand.New(rand.NewPCG(l.tide, when)).NormFloat64()
	return l.swayed*common + math.Sqrt(1-l.swayed*l.swayed)*own
}

// manyListings is from how many listings on paths are computed anew each time.
const manyListings = 5000

// year walks through one year: from where the price stands at its start to where
// it stands at the start of the next, falling by each dividend on its way. Any
// year can be walked without those before it.
func (m *Market) year(l *Listing, year int) path {
	l.mu.Lock()
	defer l.mu.Unlock()
	if p, known := l.years[year]; known {
		return p
	}
	e := m.Exchanges.Of(&l.Listing)
	var p path
	for d := period.MakeDate(year, 1, 1); d <= period.MakeDate(year, 12, 31); d++ {
		if e.Trades(d) {
			p.days = append(p.days, d)
		}
	}
	begin, end := m.anchor(l, year), m.anchor(l, year+1)
	drops := map[period.Date]float64{}
	for _, d := range m.paid(l, year) {
		drops[d.Ex] += d.Amount * splitFactor(l.Splits, d.Ex)
	}
	p.closes = make([]float64, len(p.days))
	level := 0.0
	for i, day := range p.days {
		step := l.volatility * l.chance(uint64(day))
		if drop := drops[day]; drop > 0 {
			step += math.Log(math.Max(0.5, 1-drop/math.Exp(begin+level)))
		}
		level += step
		p.closes[i] = level
	}
	for i := range p.closes {
		done := float64(i+1) / float64(len(p.closes))
		p.closes[i] += begin + done*(end-begin-level)
	}
	if len(m.Listings) < manyListings {
		if l.years == nil {
			l.years = map[int]path{}
		}
		l.years[year] = p
	}
	return p
}

// splitFactor is by how much shares have multiplied up to a day.
func splitFactor(splits []series.Split, day period.Date) float64 {
	factor := 1.0
	for _, s := range splits {
		if s.Day <= day {
			factor *= s.Ratio
		}
	}
	return factor
}

// bar is the bar of the i-th session of a year, in the shares of its day.
func (m *Market) bar(l *Listing, p path, i int) (open, high, low, cl, volume float64) {
	day := p.days[i]
	factor := splitFactor(l.Splits, day)
	cl = math.Exp(p.closes[i]) / factor
	before := cl
	if i > 0 {
		before = math.Exp(p.closes[i-1]) / factor
	}
	r := rand.New(rand.NewPCG(l.own, uint64(day)<<1|1<<40))
	open = before * math.Exp(0.3*l.volatility*r.NormFloat64())
	high = math.Max(open, cl) * math.Exp(0.4*l.volatility*math.Abs(r.NormFloat64()))
	low = math.Min(open, cl) * math.Exp(-0.4*l.volatility*math.Abs(r.NormFloat64()))
	volume = math.Round(l.volume * math.Exp(0.5*r.NormFloat64()))
	t := l.tick()
	return rounded(open, t), rounded(high, t), rounded(low, t), rounded(cl, t), volume
}

// tick is the smallest step of a listing's price.
func (l *Listing) tick() float64 {
	switch {
	case l.Kind == market.Pair:
		return 0.0001
	case l.Currency == "JPY":
		return 1
	}
	return 0.01
}

// rounded puts a price on the grid of ticks, at least one of them above zero.
func rounded(x, tick float64) float64 {
	steps := math.Max(1, math.Round(x/tick))
	// Dividing by the whole number of ticks in one keeps the decimal exact.
	return steps / math.Round(1/tick)
}

// Quote is the state of trading in a listing at an instant.
type Quote struct {
	Time                            time.Time
	Last, Open, High, Low, Previous float64
	Bid, Ask                        float64
	Volume, Turnover                float64
}

// longestBreak is more days than any exchange stays closed.
const longestBreak = 12

// QuoteAt returns the quote of a listing as it stood at an instant, in the major unit.
func (m *Market) QuoteAt(l *Listing, at time.Time) (Quote, bool) {
	e := m.Exchanges.Of(&l.Listing)
	day, done := e.LastClosed(at, 0).Date, 1.0
	current, open := e.Current(at)
	if open {
		day = current.Date
		done = float64(at.Sub(current.Open)) / float64(current.Close.Sub(current.Open))
	}
	last := min(day, l.lastDay())
	bars := m.BarsIn(l, last-longestBreak, last)
	n := bars.Len()
	if n == 0 {
		return Quote{}, false
	}
	i := n - 1
	if bars.Day[i] < day {
		done = 1 // ended or suspended: the last session it had
	}
	session := e.SessionOn(bars.Day[i])
	q := Quote{Time: session.Close, Open: bars.Open[i], High: bars.High[i], Low: bars.Low[i], Last: bars.Close[i], Volume: bars.Volume[i], Previous: bars.Open[i]}
	if i > 0 {
		q.Previous = bars.Close[i-1]
		for _, s := range l.Splits {
			if s.Day == bars.Day[i] {
				q.Previous = rounded(q.Previous/s.Ratio, l.tick())
			}
		}
	}
	if done < 1 {
		m.midSession(l, &q, at, done)
	}
	tick := l.tick()
	half := math.Max(tick, rounded(q.Last*0.0008, tick))
	q.Bid, q.Ask = rounded(q.Last-half, tick), rounded(q.Last+half, tick)
	q.Turnover = math.Round(q.Volume * (q.Open + q.Last) / 2)
	return q, true
}

// midSession cuts a whole day's quote down to what had happened by an instant.
func (m *Market) midSession(l *Listing, q *Quote, at time.Time, done float64) {
	step := at.Truncate(5 * time.Minute)
	r := m.random(l.Symbol.String(), step.UTC().Format(time.RFC3339))
	wobble := 0.5 * (q.High - q.Low) * math.Sqrt(done*(1-done)) * r.NormFloat64()
	last := math.Min(q.High, math.Max(q.Low, q.Open+(q.Last-q.Open)*done+wobble))
	q.Time = at.Truncate(time.Second)
	q.Last = rounded(last, l.tick())
	q.High = math.Max(q.Open, q.Last) + rounded((q.High-math.Max(q.Open, q.Last))*done, l.tick())
	q.Low = math.Min(q.Open, q.Last)
	q.High, q.Low = rounded(q.High, l.tick()), rounded(q.Low, l.tick())
	q.Volume = math.Round(q.Volume * done)
}
