package standin

import (
	"bytes"
	"compress/gzip"
	"encoding/json"
	"fmt"
	"io"
	"math/rand/v2"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"soba.invalid/soba/internal/core/period"
)

// Fault is something that goes wrong on demand with the answers of a stand-in.
type Fault struct {
	Kind        string  `json:"kind"`        // one of [FaultKinds]
	Dataset     string  `json:"dataset"`     // only there; empty: everywhere
	Symbol      string  `json:"symbol"`      // only in batches that hold it, in the vendor's spelling
	Count       int     `json:"count"`       // how many times; 0: until cleared
	Probability float64 `json:"probability"` // that it strikes; 0: always
	Millis      int     `json:"millis"`      // of latency, of the wait before a time-out, between the bytes of a drip
	Retry       string  `json:"retry"`       // Retry-After of 429 and 503
}

// FaultKinds are the faults, each with what it does.
var FaultKinds = []struct{ Kind, Does string }{
	{"latency", "answers late"},
	{"timeout", "does not answer in time"},
	{"drip", "sends a few bytes at a time"},
	{"reset", "closes the connection without an answer"},
	{"429", "asks to slow down"},
	{"500", "fails"},
	{"503", "is down for maintenance"},
	{"html", "sends an error page with status 200"},
	{"garbage", "sends something that is no document"},
	{"truncated", "breaks off in the middle"},
	{"type", "sends its data as text/html"},
	{"gzip", "sends damaged gzip"},
	{"oversize", "never stops sending"},
	{"bomb", "sends a small gzip that unpacks to a thousand times its size"},
	{"deep", "nests its answer a hundred thousand deep"},
	{"rows", "sends ten million records"},
	{"encoding", "sends text that is not UTF-8"},
	{"key", "does not know the key"},
	{"plan", "says that the key's plan lacks the dataset"},
	{"allowance", "says that the allowance is spent"},
	{"moved", "knows the address no more"},
	{"redirect", "redirects to an address in a private network"},
	{"reshaped", "has renamed the parts of its answers"},
	{"unknown", "refuses the whole batch for one symbol"},
	{"half", "leaves every second symbol out"},
	{"shuffled", "answers in another order"},
	{"duplicates", "gives every record twice, the second one different"},
	{"nulls", "has null for every number"},
	{"text", "has text where numbers belong"},
	{"wrong", "answers for other symbols than asked"},
	{"future", "dates its records a month ahead"},
	{"frozen", "gives last week's prices with a fresh stamp"},
	{"glitch", "multiplies the last price by ten"},
	{"currency", "answers in another currency"},
	{"restated", "has changed its history by one per cent"},
	{"renamed", "knows a listing by a new ticker only"},
	{"skew", "has a clock that runs twenty minutes ahead"},
}

type faults struct {
	mu   sync.Mutex
	list []*Fault
}

func (fs *faults) add(w http.ResponseWriter, r *http.Request) {
	var f Fault
	if err := json.NewDecoder(r.Body).Decode(&f); err != nil || !slices.ContainsFunc(FaultKinds, func(k struct{ Kind, Does string }) bool { return k.Kind == f.Kind }) {
		writeJSON(w, 400, map[string]string{"error": "a fault needs a kind that is known"})
		return
	}
	fs.mu.Lock()
	defer fs.mu.Unlock()
	fs.list = append(fs.list, &f)
	writeJSON(w, 201, f)
}

// Order makes a fault strike.
func (v *Vendor) Order(f Fault) error {
	if !slices.ContainsFunc(FaultKinds, func(k struct{ Kind, Does string }) bool { return k.Kind == f.Kind }) {
		return fmt.Errorf("there is no fault %q", f.Kind)
	}
	v.faults.mu.Lock()
	defer v.faults.mu.Unlock()
	v.faults.list = append(v.faults.list, &f)
	return nil
}

// Clear ends all faults.
func (v *Vendor) Clear() {
	v.faults.mu.Lock()
	defer v.faults.mu.Unlock()
	v.faults.list = nil
}

func (fs *faults) clear(w http.ResponseWriter, _ *http.Request) {
	fs.mu.Lock()
	defer fs.mu.Unlock()
	fs.list = nil
	w.WriteHeader(http.StatusNoContent)
}

// take finds the fault that strikes a request, if one does, and uses it up.
func (fs *faults) take(dataset string, symbols []string) *Fault {
	fs.mu.Lock()
	defer fs.mu.Unlock()
	for i, f := range fs.list {
		if f.Dataset != "" && f.Dataset != dataset || f.Symbol != "" && !slices.Contains(symbols, f.Symbol) || f.Probability > 0 && rand.Float64() >= f.Probability {
			continue
		}
		if f.Count > 0 {
			if f.Count--; f.Count == 0 {
				fs.list = slices.Delete(fs.list, i, i+1)
			}
		}
		return f
	}
	return nil
}

// is tells whether the fault is of a kind; there may be no fault at all.
func (f *Fault) is(kind string) bool { return f != nil && f.Kind == kind }

// before applies the faults that replace the whole answer; true when it is over.
func (f *Fault) before(w http.ResponseWriter, r *http.Request) bool {
	if f == nil {
		return false
	}
	wait := func() {
		select {
		case <-time.After(time.Duration(f.Millis) * time.Millisecond):
		case <-r.Context().Done():
		}
	}
	sends := func(contentType, text string) bool {
		w.Header().Set("Content-Type", contentType)
		_, _ = io.WriteString(w, text)
		return true
	}
	refuses := func(f refusal) bool { f.write(w); return true }
	switch f.Kind {
	case "latency", "timeout":
		wait()
	case "reset":
		if conn, _, err := http.NewResponseController(w).Hijack(); err == nil {
			conn.Close()
		}
		return true
	case "429":
		return refuses(refusal{status: 429, code: "too_many", message: "slow down", retry: f.Retry})
	case "500":
		return refuses(refusal{status: 500, code: "internal", message: "something broke"})
	case "503":
		return refuses(refusal{status: 503, code: "unavailable", message: "down for maintenance", retry: f.Retry})
	case "key":
		return refuses(refusal{status: 401, code: "key_invalid", message: "this key is not known"})
	case "plan":
		return refuses(refusal{status: 403, code: "plan", message: "this plan does not include the dataset"})
	case "allowance":
		return refuses(refusal{status: 402, code: "allowance_spent", message: "the day's units are used up; starts anew at midnight UTC"})
	case "moved":
		return refuses(refusal{status: 404, code: "gone", message: "this is now at /v2"})
	case "unknown":
		return refuses(refusal{status: 422, code: "unknown_symbol", message: "the batch holds a symbol that is not known", symbols: []string{f.Symbol}})
	case "redirect":
		w.Header().Set("Location", "http://10.0.0.1/internal")
		w.WriteHeader(http.StatusFound)
		return true
	case "html":
		return sends("text/html", "<html><body>Please try again later</body></html>")
	case "garbage":
		return sends("application/json", `{"quotes":[{"symbol":17,"last":{}}, nonsense`)
	case "deep":
		return sends("application/json", `{"quotes":`+strings.Repeat("[", 100_000))
	case "gzip":
		w.Header().Set("Content-Encoding", "gzip")
		return sends("application/json", "\x1f\x8bthis is no gzip")
	case "oversize", "rows":
		f.endless(w, r)
		return true
	case "bomb":
		bomb(w)
		return true
	}
	return false
}

// endless sends records until the client has had enough.
func (f *Fault) endless(w http.ResponseWriter, r *http.Request) {
	w.Header().Set("Content-Type", "application/json")
	filler := `,{"symbol":"XCVH:NONE","note":"` + strings.Repeat("x", 1000) + `"}`
	most := 1 << 30 / len(filler)
	if f.Kind == "rows" {
		filler, most = `,{}`, 10_000_000
	}
	chunk := strings.Repeat(filler, 1000)
	if _, err := io.WriteString(w, `{"quotes":[{}`); err != nil {
		return
	}
	for range most / 1000 {
		if _, err := io.WriteString(w, chunk); err != nil || r.Context().Err() != nil {
			return
		}
	}
	_, _ = io.WriteString(w, "]}")
}

// packed is 64 MiB of spaces, compressed once.
var packed = sync.OnceValue(func() []byte { return zipped(bytes.Repeat([]byte{' '}, 64<<20)) })

func zipped(body []byte) []byte {
	var b bytes.Buffer
	z := gzip.NewWriter(&b)
	z.Write(body) //nolint:errcheck // a buffer takes everything
	z.Close()     //nolint:errcheck
	return b.Bytes()
}

func bomb(w http.ResponseWriter) {
	w.Header().Set("Content-Type", "application/json")
	w.Header().Set("Content-Encoding", "gzip")
	_, _ = w.Write(packed())
}

// kept leaves every second symbol out of a half answer.
func (f *Fault) kept(symbols []string) []string {
	if !f.is("half") {
		return symbols
	}
	var some []string
	for i := 0; i < len(symbols); i += 2 {
		some = append(some, symbols[i])
	}
	return some
}

// alter spoils the records of an answer.
func (f *Fault) alter(a *answer, v *Vendor) {
	if f == nil || a.json == nil {
		return
	}
	rows, _ := a.json[a.list].([]any)
	switch f.Kind {
	case "shuffled":
		slices.Reverse(rows)
	case "duplicates":
		for _, row := range slices.Clone(rows) {
			rows = append(rows, scaled(row, 2))
		}
	case "reshaped":
		a.json["data"] = rows
		delete(a.json, a.list)
		return
	}
	for i, row := range rows {
		record, _ := row.(map[string]any)
		if record == nil || f.Symbol != "" && record["symbol"] != f.Symbol {
			continue
		}
		rows[i] = f.spoil(record, v)
	}
	a.json[a.list] = rows
}

func (f *Fault) spoil(record map[string]any, v *Vendor) any {
	bars, _ := record["bars"].([]any)
	ahead := func(text string, days int) string { // a date or a time
		if day, err := period.ParseDate(text[:min(len(text), 10)]); err == nil {
			return (day + period.Date(days)).String() + text[min(len(text), 10):]
		}
		return text
	}
	switch f.Kind {
	case "shuffled":
		slices.Reverse(bars)
	case "nulls", "text":
		var to any
		if f.Kind == "text" {
			to = "see note 3"
		}
		for name, x := range record {
			if _, number := x.(float64); number {
				record[name] = to
			}
		}
		for _, bar := range bars {
			if values, ok := bar.([]any); ok && len(values) > 4 {
				values[4] = to
			}
		}
	case "wrong":
		record["symbol"] = "XCVH:OTHER"
	case "renamed":
		record["symbol"] = fmt.Sprint(record["symbol"], "N")
	case "future":
		if text, ok := record["time"].(string); ok {
			record["time"] = ahead(text, 30)
		}
		for _, bar := range bars {
			if values, ok := bar.([]any); ok {
				values[0] = ahead(fmt.Sprint(values[0]), 3000)
			}
		}
	case "skew":
		if text, ok := record["time"].(string); ok {
			if at, err := time.Parse(time.RFC3339, text); err == nil {
				record["time"] = at.Add(35 * time.Minute).Format(time.RFC3339)
			}
		}
	case "frozen":
		if l := (&Gannet{v}).find(fmt.Sprint(record["symbol"])); l != nil {
			if q, ok := v.Market.QuoteAt(l, v.Market.Clock().Add(-7*24*time.Hour)); ok {
				record["last"] = round(q.Last * (&Gannet{v}).scale(l))
			}
		}
	case "glitch":
		if x, ok := record["last"].(float64); ok {
			record["last"] = 10 * x
		}
	case "currency":
		record["currency"] = "CHF"
	case "restated":
		return scaled(record, 1.01)
	}
	return record
}

// scaled is a copy of a record with its prices multiplied.
func scaled(row any, by float64) any {
	record, ok := row.(map[string]any)
	if !ok {
		return row
	}
	out := map[string]any{}
	for name, x := range record {
		out[name] = x
		if number, ok := x.(float64); ok && name != "volume" {
			out[name] = round(number * by)
		}
	}
	if bars, ok := record["bars"].([]any); ok {
		changed := make([]any, len(bars))
		for i, bar := range bars {
			values := slices.Clone(bar.([]any))
			for j := 1; j < 5; j++ {
				values[j] = round(values[j].(float64) * by)
			}
			changed[i] = values
		}
		out["bars"] = changed
	}
	return out
}

// write sends the answer, spoiled where the fault is one of its transport.
func (f *Fault) write(w http.ResponseWriter, r *http.Request, a *answer) {
	body := []byte(a.text)
	contentType := a.contentType
	if a.json != nil {
		body, _ = json.Marshal(a.json) // maps of plain values always marshal
		contentType = "application/json"
	}
	if f.is("encoding") {
		body = bytes.Replace(body, []byte(`"symbol"`), []byte("\"note\":\"Mus\xe9e\",\"symbol\""), 1)
		if a.json == nil {
			body = append([]byte("Mus\xe9e,"), body...)
		}
	}
	if f.is("type") {
		contentType = "text/html"
	}
	w.Header().Set("Content-Type", contentType)
	if a.packed && strings.Contains(r.Header.Get("Accept-Encoding"), "gzip") {
		body = zipped(body)
		w.Header().Set("Content-Encoding", "gzip")
	}
	switch {
	case f.is("truncated"):
		w.Header().Set("Content-Length", strconv.Itoa(len(body)+1000))
		body = body[:len(body)/2]
	case f.is("drip"):
		for len(body) > 0 && r.Context().Err() == nil {
			n := min(len(body), 16)
			_, _ = w.Write(body[:n])
			_ = http.NewResponseController(w).Flush()
			body = body[n:]
			select {
			case <-time.After(time.Duration(f.Millis) * time.Millisecond):
			case <-r.Context().Done():
			}
		}
		return
	}
	_, _ = w.Write(body)
}
