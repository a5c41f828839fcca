package standin

import (
	"encoding/json"
	"fmt"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"sync"
	"time"

	"golang.org/x/time/rate"

	"soba.invalid/soba/internal/core/market"
	"soba.invalid/soba/internal/core/period"
)

// Vendor is what the stand-ins have in common: keys, limits, allowance, and
// faults on demand.
type Vendor struct {
	Name    string
	Market  *Market
	Latency time.Duration // added to every answer

	mux       *http.ServeMux
	key       func(*http.Request) bool
	perSecond float64
	atOnce    int
	allowance int // units a day; 0: none
	limiter   *rate.Limiter
	slots     chan struct{}
	faults    faults

	mu      sync.Mutex
	day     period.Date // of the units below
	spent   int
	asked   map[string]int // requests by dataset, for tests and benchmarks
	tooFast int            // requests refused for coming too fast
	log     []Served
}

// Served is one request that came, for tests.
type Served struct {
	Dataset string
	Address string
	At      time.Time
}

// Symbols are those of a list that was asked for.
func (s Served) Symbols() []string {
	u, err := url.Parse(s.Address)
	if err != nil {
		return nil
	}
	return strings.Split(u.Query().Get("symbols"), ",")
}

// burst lets a client that keeps to the rate pass in spite of jitter.
const burst = 2

func newVendor(name string, m *Market, perSecond float64, atOnce, allowance int) *Vendor {
	v := &Vendor{
		Name: name, Market: m, mux: http.NewServeMux(), perSecond: perSecond, atOnce: atOnce, allowance: allowance,
		limiter: rate.NewLimiter(rate.Limit(perSecond), burst), slots: make(chan struct{}, atOnce), asked: map[string]int{},
		key: func(*http.Request) bool { return true },
	}
	v.mux.HandleFunc("POST /admin/faults", v.faults.add)
	v.mux.HandleFunc("DELETE /admin/faults", v.faults.clear)
	v.mux.HandleFunc("GET /admin/counts", v.counts)
	v.mux.HandleFunc("GET /admin/truth", v.truth)
	return v
}

// Unlimited lifts the limits on rate, concurrency and units.
func (v *Vendor) Unlimited() {
	v.limiter.SetLimit(rate.Inf)
	v.slots = make(chan struct{}, 1000)
	v.allowance = 0
}

func (v *Vendor) ServeHTTP(w http.ResponseWriter, r *http.Request) { v.mux.ServeHTTP(w, r) }

// A refusal is an answer that is not the data that was asked for.
type refusal struct {
	status  int
	code    string
	message string
	retry   string
	symbols []string
}

func (f *refusal) write(w http.ResponseWriter) {
	if f.retry != "" {
		w.Header().Set("Retry-After", f.retry)
	}
	writeJSON(w, f.status, map[string]any{"error": f.code, "message": f.message, "symbols": f.symbols})
}

func writeJSON(w http.ResponseWriter, status int, body any) {
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(status)
	_ = json.NewEncoder(w).Encode(body) // the client is gone if this fails
}

// answer is a document: JSON of maps and rows, or text of a content type.
type answer struct {
	json        map[string]any
	list        string // the member of json that holds the rows
	text        string
	contentType string
	tag         string // of a document that may be the same next time
	packed      bool   // sent compressed, to who takes that
	units       int
}

// serve adds a dataset at a path, with the vendor's manners around it: key,
// concurrency, rate, faults on demand, and allowance.
func (v *Vendor) serve(path, dataset string, symbols func(*http.Request) []string, of func(r *http.Request, symbols []string) (*answer, *refusal)) {
	v.mux.HandleFunc("GET "+path, func(w http.ResponseWriter, r *http.Request) {
		v.mu.Lock()
		v.asked[dataset]++
		v.log = append(v.log, Served{dataset, r.URL.String(), time.Now()})
		v.mu.Unlock()
		if !v.key(r) {
			(&refusal{status: 401, code: "key_invalid", message: "this key is not known"}).write(w)
			return
		}
		select {
		case v.slots <- struct{}{}:
			defer func() { <-v.slots }()
		default:
			v.tooMany(w, fmt.Sprintf("more than %d requests at once", v.atOnce))
			return
		}
		if !v.limiter.Allow() {
			v.tooMany(w, fmt.Sprintf("more than %v requests a second", v.perSecond))
			return
		}
		asked := symbols(r)
		time.Sleep(v.Latency)
		f := v.faults.take(dataset, asked)
		if f.before(w, r) {
			return
		}
		a, refused := of(r, f.kept(asked))
		if refused == nil && !v.spend(a.units) {
			refused = &refusal{status: 402, code: "allowance_spent", message: fmt.Sprintf("%d units a day; starts anew at midnight UTC", v.allowance)}
		}
		if v.allowance > 0 {
			w.Header().Set("X-Units-Left", strconv.Itoa(v.left()))
		}
		if refused != nil {
			refused.write(w)
			return
		}
		w.Header().Set("X-Units-Spent", strconv.Itoa(a.units))
		if a.tag != "" {
			w.Header().Set("ETag", a.tag)
			if r.Header.Get("If-None-Match") == a.tag {
				w.WriteHeader(http.StatusNotModified)
				return
			}
		}
		f.alter(a, v)
		f.write(w, r, a)
	})
}

func (v *Vendor) tooMany(w http.ResponseWriter, message string) {
	v.mu.Lock()
	v.tooFast++
	v.mu.Unlock()
	(&refusal{status: 429, code: "too_many", message: message, retry: "1"}).write(w)
}

// spend takes units off the day's allowance, or none if they do not suffice.
func (v *Vendor) spend(units int) bool {
	v.mu.Lock()
	defer v.mu.Unlock()
	if today := period.DateOf(v.Market.Clock().UTC()); today != v.day {
		v.day, v.spent = today, 0
	}
	if v.allowance > 0 && v.spent+units > v.allowance {
		return false
	}
	v.spent += units
	return true
}

func (v *Vendor) left() int {
	v.mu.Lock()
	defer v.mu.Unlock()
	return v.allowance - v.spent
}

// Log returns the requests that came.
func (v *Vendor) Log() []Served {
	v.mu.Lock()
	defer v.mu.Unlock()
	return append([]Served(nil), v.log...)
}

// counts reports what was asked, for tests and benchmarks.
func (v *Vendor) counts(w http.ResponseWriter, _ *http.Request) {
	v.mu.Lock()
	defer v.mu.Unlock()
	writeJSON(w, 200, map[string]any{"asked": v.asked, "spent": v.spent, "too_fast": v.tooFast})
}

// truth gives the exact numbers behind a listing, in the major unit.
func (v *Vendor) truth(w http.ResponseWriter, r *http.Request) {
	s, err := market.ParseSymbol(r.URL.Query().Get("symbol"))
	l := v.Market.Find(s)
	if err != nil || l == nil {
		writeJSON(w, 404, map[string]string{"error": "no such listing"})
		return
	}
	q, _ := v.Market.QuoteAt(l, v.Market.Clock().Add(-gannetDelay))
	today := period.DateOf(v.Market.Clock().UTC())
	writeJSON(w, 200, map[string]any{
		"quote": q, "bars": v.Market.Bars(l), "splits": l.Splits, "dividends": v.Market.Dividends(l, today), "accounts": v.Market.Accounts(l, today),
		"announcements": v.Market.Announcements(l, today), "employees": l.Employees, "sector": l.Sector, "isin": l.ISIN, "ended": l.Ended,
	})
}

// listed reads a list of symbols from a parameter.
func listed(parameter, separator string) func(*http.Request) []string {
	return func(r *http.Request) []string {
		if list := r.URL.Query().Get(parameter); list != "" {
			return strings.Split(list, separator)
		}
		return nil
	}
}
