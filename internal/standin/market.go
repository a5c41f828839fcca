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
	story                         story

	start, drift, volatility float64 // price at the epoch; daily mean and deviation of log returns
	volume                   float64 // usual volume of a session
	own                      uint64  // what its chance begins from

	mu   sync.Mutex
	bars series.Bars // raw, from the epoch on, as far as computed
	walk float64     // the unrounded close of the last of them, in the shares of its day
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
}

// epoch is the first day of the walk of every price.
var epoch = period.MakeDate(2022, time.January, 3)

// New makes a market of a number of listings, the first of them written by hand.
func New(exchanges market.Exchanges, seed uint64, listings int, clock func() time.Time) *Market {
	m := &Market{Exchanges: exchanges, Clock: clock, seed: seed, bySymbol: map[market.Symbol]*Listing{}}
	for _, l := range written(period.DateOf(clock().UTC())) {
		m.add(l)
	}
	m.generate(listings - len(m.Listings))
	return m
}

func (m *Market) add(l *Listing) {
	r := m.random(l.Symbol.String())
	l.own = r.Uint64()
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
	last := m.Exchanges.Of(&l.Listing).LastClosed(m.Clock(), 0).Date
	return m.barsTo(l, last)
}

// barsTo extends the walk to a day and returns the bars up to it.
func (m *Market) barsTo(l *Listing, day period.Date) series.Bars {
	if l.Ended != 0 {
		day = min(day, l.Ended)
	}
	if l.story.suspended != 0 {
		day = min(day, l.story.suspended)
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	e := m.Exchanges.Of(&l.Listing)
	next := max(epoch, l.Since)
	if n := l.bars.Len(); n > 0 {
		next = l.bars.Day[n-1] + 1
	} else {
		l.walk = l.start
	}
	for d := next; d <= day; d++ {
		if e.Trades(d) {
			m.trade(l, d)
		}
	}
	return l.bars.Slice(0, l.bars.OnOrBefore(day)+1)
}

// trade adds the bar of one day.
func (m *Market) trade(l *Listing, d period.Date) {
	r := rand.New(rand.NewPCG(l.own, uint64(d))) // a day's chance is its own, so that a history can be extended
	before := l.walk
	for _, s := range l.Splits {
		if s.Day == d {
			before /= s.Ratio
		}
	}
	open := before * math.Exp(0.3*l.volatility*r.NormFloat64())
	l.walk = before * math.Exp(l.drift+l.volatility*r.NormFloat64())
	high := math.Max(open, l.walk) * math.Exp(0.4*l.volatility*math.Abs(r.NormFloat64()))
	low := math.Min(open, l.walk) * math.Exp(-0.4*l.volatility*math.Abs(r.NormFloat64()))
	volume := math.Round(l.volume * math.Exp(0.5*r.NormFloat64()))
	t := l.tick()
	l.bars.Append(d, rounded(open, t), rounded(high, t), rounded(low, t), rounded(l.walk, t), volume)
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

// QuoteAt returns the quote of a listing as it stood at an instant, in the major unit.
func (m *Market) QuoteAt(l *Listing, at time.Time) (Quote, bool) {
	e := m.Exchanges.Of(&l.Listing)
	day, done := e.LastClosed(at, 0).Date, 1.0
	current, open := e.Current(at)
	if open {
		day = current.Date
		done = float64(at.Sub(current.Open)) / float64(current.Close.Sub(current.Open))
	}
	bars := m.barsTo(l, day)
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
