package httpapi

import (
	"bufio"
	"cmp"
	"context"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"net/http"
	"net/url"
	"reflect"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/gofiber/fiber/v3"

	"soba.invalid/soba/internal/core/catalogue"
	"soba.invalid/soba/internal/core/market"
	"soba.invalid/soba/internal/core/period"
	"soba.invalid/soba/internal/core/plan"
	"soba.invalid/soba/internal/store"
	"soba.invalid/soba/internal/wire"
)

var (
	reflectTable = reflect.TypeFor[wire.Table]()
	reflectEvent = reflect.TypeFor[wire.Event]()
)

type refreshID struct {
	ID int64 `path:"id" minimum:"1"`
}

func (s *Server) addRefreshes() {
	ask := operation(http.MethodPost, "/api/v1/watchlists/{name}/refreshes", "new-refresh", "Refresh a watchlist or the members of an index, or plan it", "refreshes")
	ask.DefaultStatus = http.StatusAccepted
	huma.Register(s.api, ask, func(ctx context.Context, in *struct {
		ListInput
		Body wire.RefreshAsk
	},
	) (*askOutput, error) {
		list, err := s.refreshable(ctx, in.Name)
		if err != nil {
			return nil, err
		}
		return s.refresh(ctx, list, &in.Body)
	})
	askNames := operation(http.MethodPost, "/api/v1/refreshes", "new-refresh-of-names", "Refresh names, or plan it", "refreshes")
	askNames.DefaultStatus = http.StatusAccepted
	huma.Register(s.api, askNames, func(ctx context.Context, in *struct {
		Body struct {
			wire.RefreshAsk
			Symbols []string `json:"symbols" minItems:"1" maxItems:"10000" doc:"Symbols or ISINs"`
		}
	},
	) (*askOutput, error) {
		list, err := s.adHoc(in.Body.Symbols)
		if err != nil {
			return nil, err
		}
		return s.refresh(ctx, list, &in.Body.RefreshAsk)
	})
	type refreshesInput struct {
		Watchlist string `query:"watchlist" maxLength:"80"`
		Limit     int    `query:"limit" default:"20" minimum:"1" maximum:"200"`
	}
	huma.Register(s.api, operation(http.MethodGet, "/api/v1/refreshes", "list-refreshes", "The newest refreshes", "refreshes"),
		func(ctx context.Context, in *refreshesInput) (*body[wire.Refreshes], error) {
			id := int64(0)
			if in.Watchlist != "" {
				list, err := s.list(ctx, in.Watchlist)
				if err != nil {
					return nil, err
				}
				id = list.ID
			}
			all, err := s.Store.Refreshes(ctx, id, in.Limit)
			if err != nil {
				return nil, asProblem(err, "")
			}
			out := wire.Refreshes{Refreshes: make([]wire.Refresh, len(all))}
			for i := range all {
				out.Refreshes[i] = refreshed(&all[i])
			}
			return answer(out), nil
		})
	huma.Register(s.api, operation(http.MethodGet, "/api/v1/refreshes/{id}", "get-refresh", "A refresh and how far it is", "refreshes"),
		func(ctx context.Context, in *refreshID) (*body[wire.Refresh], error) {
			return s.findRefresh(ctx, in.ID)
		})
	huma.Register(s.api, operation(http.MethodPost, "/api/v1/refreshes/{id}/cancel", "cancel-refresh", "Stop a refresh; what it brought stays", "refreshes"),
		func(ctx context.Context, in *refreshID) (*body[wire.Refresh], error) {
			if err := s.Store.CancelRefresh(ctx, in.ID); err != nil {
				return nil, noRefresh(err, in.ID)
			}
			return s.findRefresh(ctx, in.ID)
		})
	type requestsInput struct {
		Refresh int64 `query:"refresh" doc:"Only those of one refresh"`
		Limit   int   `query:"limit" default:"100" minimum:"1" maximum:"1000"`
	}
	huma.Register(s.api, operation(http.MethodGet, "/api/v1/requests", "list-requests", "The request log, newest first", "refreshes"),
		func(ctx context.Context, in *requestsInput) (*body[wire.Requests], error) {
			all, err := s.Store.Requests(ctx, in.Refresh, in.Limit)
			if err != nil {
				return nil, asProblem(err, "")
			}
			out := wire.Requests{Requests: make([]wire.Request, len(all))}
			for i, r := range all {
				out.Requests[i] = request(r)
			}
			return answer(out), nil
		})
	type responseInput struct {
		Hash string `path:"hash" pattern:"^[0-9a-f]{64}$" doc:"SHA-256 of the content"`
	}
	op := operation(http.MethodGet, "/api/v1/responses/{hash}", "get-response", "A raw response of a source, as it came", "refreshes")
	op.Responses = map[string]*huma.Response{"200": {Description: "The stored bytes", Content: map[string]*huma.MediaType{"application/octet-stream": {Schema: &huma.Schema{Type: "string", Format: "binary"}}}}}
	huma.Register(s.api, op, func(ctx context.Context, in *responseInput) (*rawOutput, error) {
		hash, _ := hex.DecodeString(in.Hash) // the pattern lets only hexadecimals through
		r, err := s.Store.Response(ctx, hash)
		if err != nil {
			return nil, asProblem(err, "hash")
		}
		kind := r.ContentType
		if !strings.HasPrefix(kind, "application/json") {
			kind = "text/plain; charset=utf-8" // another site's HTML must not run as ours
		}
		return &rawOutput{ContentType: kind, Status: http.StatusOK, ETag: `"` + in.Hash + `"`, Body: r.Body}, nil
	})
}

type askOutput struct {
	Status   int
	Location string `header:"Location"`
	Body     wire.Refresh
}

// refreshable is a list to refresh: what is readable, and of an index itself too.
func (s *Server) refreshable(ctx context.Context, name string) (*store.List, error) {
	l, err := s.Book.Directory().Resolve(name)
	if _, unlisted := s.Book.List(ctx, name); unlisted == nil || err != nil || l.Kind != market.Index {
		return s.readable(ctx, name)
	}
	if _, err := s.members(ctx, name); err != nil { // which fetches them
		return nil, err
	}
	list, err := s.readable(ctx, name)
	if err == nil {
		list.Rows = append(list.Rows, store.Row{ListingID: l.ID})
	}
	return list, err
}

// refresh queues or plans a refresh of a list.
func (s *Server) refresh(ctx context.Context, list *store.List, ask *wire.RefreshAsk) (*askOutput, error) {
	asked, err := s.asked(ask)
	if err != nil {
		return nil, err
	}
	if list.ID != 0 {
		asked.Watchlist = &list.ID
	} else {
		for _, row := range list.Rows {
			asked.Listings = append(asked.Listings, row.ListingID)
		}
	}
	if !ask.DryRun {
		r, err := s.Engine.Ask(ctx, asked)
		if err != nil {
			return nil, asProblem(err, "")
		}
		return &askOutput{http.StatusAccepted, fmt.Sprintf("/api/v1/refreshes/%d", r.ID), refreshed(&r)}, nil
	}
	p, err := s.Engine.Preview(ctx, list.Rows, asked)
	if err != nil {
		return nil, asProblem(err, "")
	}
	states, err := s.Engine.Sources(ctx)
	if err != nil {
		return nil, asProblem(err, "")
	}
	w := planned(p)
	for _, state := range states {
		if state.Limits.UnitsPerDay > 0 {
			w.Left[state.Name] = state.Left
		}
	}
	return &askOutput{Status: http.StatusOK, Body: wire.Refresh{
		Watchlist: list.Name, Datasets: names(asked.Datasets), State: "queued", Asked: s.Now().UTC(), Cause: asked.Cause,
		Planned: len(p.Requests), Skipped: len(p.Skipped), Refused: len(p.Refused), Dry: &w,
	}}, nil
}

// asked reads what a refresh is to bring.
func (s *Server) asked(in *wire.RefreshAsk) (store.Asked, error) {
	a := store.Asked{Force: in.Force, Compare: in.Compare, Cause: store.ByHand}
	var err error
	if a.Datasets, err = chosen(in.Only); err != nil {
		return a, err
	}
	if len(in.Columns) > 0 {
		refs, err := catalogue.ParseColumns(in.Columns)
		if err != nil {
			return a, badRequest(err, "columns")
		}
		a.Visible = catalogue.Inputs(refs)
		a.From = catalogue.Since(refs, period.DateOf(s.Now().UTC()))
		if in.ForColumns && len(in.Only) == 0 {
			a.Datasets, a.Cause = a.Visible, store.ByTable
		}
	}
	if in.In != "" {
		if a.Listings = s.Engine.PairsOf(in.In); len(a.Listings) == 0 {
			return a, hinted(problem(http.StatusUnprocessableEntity, problemBadRequest, "in", "no source fixes a rate of %q", in.In), "Write the currency by its ISO 4217 code, as EUR; 'soba lookup' finds pairs.")
		}
	}
	if in.From != "" {
		p, err := period.Parse(in.From)
		today := period.DateOf(s.Now().UTC())
		if err != nil || !p.IsDate() || p.Date(today) >= today {
			return a, problem(http.StatusUnprocessableEntity, problemBadRequest, "from", "%q is not a day in the past: write it as 2006-01-02 or -20y", in.From)
		}
		a.From = p.Date(today)
	}
	return a, nil
}

func chosen(only []string) ([]catalogue.Dataset, error) {
	if len(only) == 0 {
		return catalogue.Datasets, nil
	}
	var all, out []catalogue.Dataset
	for _, info := range catalogue.Infos {
		if info.Shape == catalogue.Directory {
			continue
		}
		all = append(all, info.Name)
		if slices.Contains(only, string(info.Name)) {
			out = append(out, info.Name)
		}
	}
	if len(out) < len(only) {
		return nil, hinted(problem(http.StatusUnprocessableEntity, problemBadRequest, "only", "%q names a dataset that is not refreshed", strings.Join(only, ",")), "There are: "+strings.Join(names(all), ", ")+".")
	}
	return out, nil
}

func names(datasets []catalogue.Dataset) []string {
	out := make([]string, len(datasets))
	for i, d := range datasets {
		out[i] = string(d)
	}
	return out
}

func noRefresh(err error, id int64) error {
	p := asProblem(err, "id")
	if p.Type == problemNotFound {
		p.Detail = fmt.Sprintf("there is no refresh %d", id)
	}
	return p
}

func (s *Server) findRefresh(ctx context.Context, id int64) (*body[wire.Refresh], error) {
	r, err := s.Store.Refresh(ctx, id)
	if err != nil {
		return nil, noRefresh(err, id)
	}
	if r.Over() {
		if err := s.Book.CatchUp(ctx); err != nil { // who sees it finished must read what it brought
			return nil, asProblem(err, "")
		}
	}
	return answer(refreshed(&r)), nil
}

func refreshed(r *store.Refresh) wire.Refresh {
	out := wire.Refresh{
		ID: r.ID, Watchlist: r.Watchlist, Datasets: r.Datasets, State: r.State, Asked: r.AskedAt.UTC(), Planned: r.Planned, Answered: r.Answered, Failed: r.Failed,
		Units: r.Units, Skipped: r.Skipped, Refused: r.Refused, Shared: r.Shared, Cause: r.Cause, Fault: r.Fault,
	}
	if r.StartedAt != nil {
		out.Started = moment(*r.StartedAt)
	}
	if r.FinishedAt != nil {
		out.Finished = moment(*r.FinishedAt)
	}
	return out
}

func request(r store.Request) wire.Request {
	out := wire.Request{
		ID: r.ID, Source: r.Source, Call: r.Call, Datasets: r.Datasets, Address: r.Address, Symbols: r.Symbols, Started: r.StartedAt.UTC(), TookMs: r.TookMs,
		Status: r.Status, Bytes: r.Bytes, Units: r.Units, UnitsLeft: r.UnitsLeft, Fault: r.Fault, Remarks: r.Remarks, Response: hex.EncodeToString(r.ResponseHash),
	}
	if r.RefreshID != nil {
		out.Refresh = *r.RefreshID
	}
	return out
}

// fewSymbols is how many symbols a plan names as examples.
const fewSymbols = 5

func planned(p *plan.Plan) wire.Plan {
	out := wire.Plan{Requests: []wire.PlannedRequest{}, Units: p.Units, Left: map[string]int{}, Seconds: p.Duration().Seconds()}
	for _, q := range p.Requests {
		out.Requests = append(out.Requests, wire.PlannedRequest{Source: q.Source, Call: q.Call, Datasets: names(q.Datasets()), Symbols: len(q.Symbols()), Exchange: q.Exchange, From: q.From.String(), To: q.To.String(), Units: q.Units})
	}
	skipped, refused := gaps{}, gaps{}
	for _, n := range p.Skipped {
		skipped.add(n, n.NotDue)
	}
	for _, f := range p.Refused {
		refused.add(f.Need, f.Reason.String()+": "+f.Detail)
	}
	out.Skipped, out.Refused = skipped.grouped(), refused.grouped()
	return out
}

// gaps gathers, for each reason, the datasets of each listing.
type gaps map[string]map[market.Symbol][]string

func (g gaps) add(n plan.Need, reason string) {
	if g[reason] == nil {
		g[reason] = map[market.Symbol][]string{}
	}
	g[reason][n.Symbol] = append(g[reason][n.Symbol], string(n.Dataset))
}

// grouped puts listings together that lack the same datasets for the same
// reason, the largest groups first; what is fresh is counted by dataset alone.
func (g gaps) grouped() []wire.PlannedGap {
	groups := map[string]*wire.PlannedGap{}
	count := func(reason string, datasets []string, symbol market.Symbol) {
		key := reason + " " + strings.Join(datasets, " ")
		if groups[key] == nil {
			groups[key] = &wire.PlannedGap{Datasets: datasets, Reason: reason}
		}
		groups[key].Count++
		groups[key].Symbols = append(groups[key].Symbols, symbol.String())
	}
	for reason, listings := range g {
		for symbol, datasets := range listings {
			slices.Sort(datasets)
			if reason != plan.IsFresh {
				count(reason, datasets, symbol)
				continue
			}
			for _, d := range datasets {
				count(reason, []string{d}, symbol)
			}
		}
	}
	out := make([]wire.PlannedGap, 0, len(groups))
	for _, e := range groups {
		slices.Sort(e.Symbols)
		e.Symbols = e.Symbols[:min(len(e.Symbols), fewSymbols)]
		out = append(out, *e)
	}
	slices.SortFunc(out, func(a, b wire.PlannedGap) int {
		return cmp.Or(cmp.Compare(b.Count, a.Count), cmp.Compare(a.Reason, b.Reason), slices.Compare(a.Datasets, b.Datasets))
	})
	return out
}

// heartbeat keeps an event stream's connection alive through proxies.
const heartbeat = 15 * time.Second

func (s *Server) addEvents() {
	stream := &huma.Response{Description: "Server-Sent Events", Content: map[string]*huma.MediaType{"text/event-stream": {Schema: s.api.OpenAPI().Components.Schemas.Schema(reflectEvent, true, "Event")}}}
	describe := func(path, id, summary string, parameters ...*huma.Param) {
		s.api.OpenAPI().AddOperation(&huma.Operation{Method: http.MethodGet, Path: path, OperationID: id, Summary: summary, Tags: []string{"refreshes"}, Parameters: parameters, Responses: map[string]*huma.Response{"200": stream}})
	}
	describe("/api/v1/events", "follow", "Tells when data, a watchlist or a refresh changed")
	describe("/api/v1/watchlists/{name}/stream", "stream", "Streams the quotes of a list as long as it is listened to, and tells whether it does",
		&huma.Param{Name: "name", In: "path", Required: true, Schema: &huma.Schema{Type: "string"}})
	describe("/api/v1/refreshes/{id}/events", "follow-refresh", "What happens in a refresh; Last-Event-ID reads on from where a listener stopped",
		&huma.Param{Name: "id", In: "path", Required: true, Schema: &huma.Schema{Type: "integer"}},
		&huma.Param{Name: "Last-Event-ID", In: "header", Schema: &huma.Schema{Type: "integer"}})
	s.app.Get("/api/v1/events", func(c fiber.Ctx) error {
		if p := s.permitted(c.Context(), c.Get("Authorization"), "read"); p != nil {
			return p
		}
		happened, stop := s.Book.Listen(func(string, int64) bool { return true })
		return s.stream(c, func(w *bufio.Writer) {
			defer stop()
			for {
				fmt.Fprintf(w, "event: changed\ndata: {\"version\":%d}\n\n", s.Book.Version())
				if w.Flush() != nil || !s.pause(w, happened) {
					return
				}
			}
		})
	})
	s.app.Get("/api/v1/watchlists/:name/stream", func(c fiber.Ctx) error {
		// Streaming spends allowance, as asking for a refresh does.
		if p := s.permitted(c.Context(), c.Get("Authorization"), "write"); p != nil {
			return p
		}
		name, err := url.PathUnescape(c.Params("name"))
		if err != nil {
			return problem(http.StatusNotFound, problemNotFound, "name", "there is no watchlist %q", c.Params("name"))
		}
		list, err := s.list(c.Context(), name)
		if err != nil {
			return err
		}
		stop := s.Engine.Watch(list.ID)
		return s.stream(c, func(w *bufio.Writer) {
			defer stop()
			for {
				state, changed := s.Engine.Streaming(list.ID)
				told := wire.Stream{Live: state.Live, EverySeconds: int(state.Every.Seconds()), Why: state.Why}
				if !state.Next.IsZero() {
					told.Next = moment(state.Next)
				}
				data, _ := json.Marshal(told) // plain values always marshal
				fmt.Fprintf(w, "event: stream\ndata: %s\n\n", data)
				if w.Flush() != nil || !s.pause(w, changed) {
					return
				}
			}
		})
	})
	s.app.Get("/api/v1/refreshes/:id/events", func(c fiber.Ctx) error {
		if p := s.permitted(c.Context(), c.Get("Authorization"), "read"); p != nil {
			return p
		}
		id, err := strconv.ParseInt(c.Params("id"), 10, 64)
		if err != nil {
			return problem(http.StatusNotFound, problemNotFound, "id", "there is no refresh %q", c.Params("id"))
		}
		if _, err := s.Store.Refresh(c.Context(), id); err != nil {
			return noRefresh(err, id)
		}
		last, _ := strconv.Atoi(c.Get("Last-Event-ID")) // from the beginning where none is given
		happened, stop := s.Book.Listen(func(what string, n int64) bool { return what == "refresh" && n == id })
		return s.stream(c, func(w *bufio.Writer) {
			defer stop()
			s.follow(w, id, last, happened)
		})
	})
}

// follow sends the events of a refresh until it is over.
func (s *Server) follow(w *bufio.Writer, id int64, last int, happened <-chan struct{}) {
	for {
		ctx, cancel := context.WithTimeout(context.Background(), handlerTime)
		events, err := s.Store.Events(ctx, id, last)
		if err == nil && len(events) > 0 {
			err = s.Book.CatchUp(ctx) // who is told of data must be able to read it
		}
		cancel()
		if err != nil {
			return // the listener comes back with its Last-Event-ID
		}
		over := false
		for _, e := range events {
			data, _ := json.Marshal(wire.Event{At: e.At.UTC(), Kind: e.Kind, Data: e.Data}) // stored JSON marshals
			fmt.Fprintf(w, "id: %d\nevent: %s\ndata: %s\n\n", e.Seq, e.Kind, data)
			last, over = e.Seq, over || e.Kind == "finished"
		}
		if w.Flush() != nil || over || !s.pause(w, happened) {
			return
		}
	}
}

// pause waits for something to happen, keeping the connection alive; false when
// the listener or the service is gone.
func (s *Server) pause(w *bufio.Writer, happened <-chan struct{}) bool {
	for {
		select {
		case <-happened:
			return true
		case <-s.stopping:
			return false
		case <-time.After(heartbeat):
			fmt.Fprint(w, ": alive\n\n")
			if w.Flush() != nil {
				return false
			}
		}
	}
}

func (s *Server) stream(c fiber.Ctx, send func(*bufio.Writer)) error {
	c.Set("Content-Type", "text/event-stream")
	c.Set("Cache-Control", "no-store")
	c.Set("X-Accel-Buffering", "no")
	return c.SendStreamWriter(send)
}
