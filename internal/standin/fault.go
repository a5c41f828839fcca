package standin

import (
	"encoding/json"
	"net/http"
	"slices"
	"sync"
	"time"
)

// Fault is something that goes wrong on demand with the answers of a stand-in.
type Fault struct {
	// Kind is latency, timeout, reset, 429, 500, 503, key, plan, allowance, html,
	// garbage, truncated, half (some symbols left out) or unknown (the whole batch
	// refused for one symbol).
	Kind    string `json:"kind"`
	Dataset string `json:"dataset"` // only there; empty: everywhere
	Symbol  string `json:"symbol"`  // only in batches that hold it, in the vendor's spelling
	Count   int    `json:"count"`   // how many times; 0: until cleared
	Millis  int    `json:"millis"`  // of latency or of the wait before a time-out
	Retry   string `json:"retry"`   // Retry-After of 429 and 503
}

type faults struct {
	mu   sync.Mutex
	list []*Fault
}

func (fs *faults) add(w http.ResponseWriter, r *http.Request) {
	var f Fault
	if err := json.NewDecoder(r.Body).Decode(&f); err != nil || f.Kind == "" {
		writeJSON(w, 400, map[string]string{"error": "a fault needs a kind"})
		return
	}
	fs.mu.Lock()
	defer fs.mu.Unlock()
	fs.list = append(fs.list, &f)
	writeJSON(w, 201, f)
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
		if f.Dataset != "" && f.Dataset != dataset || f.Symbol != "" && !slices.Contains(symbols, f.Symbol) {
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

// before applies the faults that replace the whole answer; true when it is over.
func (f *Fault) before(w http.ResponseWriter, r *http.Request) bool {
	if f == nil {
		return false
	}
	switch f.Kind {
	case "latency", "timeout":
		select {
		case <-time.After(time.Duration(f.Millis) * time.Millisecond):
		case <-r.Context().Done():
		}
	case "reset":
		if conn, _, err := http.NewResponseController(w).Hijack(); err == nil {
			conn.Close()
		}
		return true
	case "429":
		(&refusal{status: 429, code: "too_many", message: "slow down", retry: f.Retry}).write(w)
		return true
	case "500":
		(&refusal{status: 500, code: "internal", message: "something broke"}).write(w)
		return true
	case "503":
		(&refusal{status: 503, code: "unavailable", message: "down for maintenance", retry: f.Retry}).write(w)
		return true
	case "key":
		(&refusal{status: 401, code: "key_invalid", message: "this key is not known"}).write(w)
		return true
	case "plan":
		(&refusal{status: 403, code: "plan", message: "this plan does not include the dataset"}).write(w)
		return true
	case "allowance":
		(&refusal{status: 402, code: "allowance_spent", message: "the day's units are used up; starts anew at midnight UTC"}).write(w)
		return true
	case "unknown":
		(&refusal{status: 422, code: "unknown_symbol", message: "the batch holds a symbol that is not known", symbols: []string{f.Symbol}}).write(w)
		return true
	case "html":
		w.Header().Set("Content-Type", "text/html")
		_, _ = w.Write([]byte("<html><body>Please try again later</body></html>"))
		return true
	case "garbage":
		w.Header().Set("Content-Type", "application/json")
		_, _ = w.Write([]byte(`{"quotes":[{"symbol":17,"last":{}}, nonsense`))
		return true
	}
	return false
}

// kept leaves every second symbol out of a half answer.
func (f *Fault) kept(symbols []string) []string {
	if f == nil || f.Kind != "half" {
		return symbols
	}
	var some []string
	for i := 0; i < len(symbols); i += 2 {
		some = append(some, symbols[i])
	}
	return some
}

// write sends the answer, cut short for a truncated one.
func (f *Fault) write(w http.ResponseWriter, body any) {
	if f == nil || f.Kind != "truncated" {
		writeJSON(w, 200, body)
		return
	}
	whole, _ := json.Marshal(body) // maps of plain values always marshal
	w.Header().Set("Content-Type", "application/json")
	w.Header().Set("Content-Length", "1000000")
	_, _ = w.Write(whole[:len(whole)/2])
}
