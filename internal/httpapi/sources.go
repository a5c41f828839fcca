package httpapi

import (
	"context"
	"net/http"
	"slices"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"soba.invalid/soba/internal/core/catalogue"
	"soba.invalid/soba/internal/refresh"
	"soba.invalid/soba/internal/source"
	"soba.invalid/soba/internal/store"
	"soba.invalid/soba/internal/wire"
)

// SourceInput names a source.
type SourceInput struct {
	Name string `path:"name" doc:"Name of the source" maxLength:"80"`
}

func (s *Server) addSources() {
	huma.Register(s.api, operation(http.MethodGet, "/api/v1/sources", "list-sources", "The sources and how they have been doing", "sources"),
		func(ctx context.Context, _ *struct{}) (*body[wire.Sources], error) {
			states, err := s.Engine.Sources(ctx)
			if err != nil {
				return nil, asProblem(err, "")
			}
			out := wire.Sources{Sources: []wire.Source{}, Preferences: s.preferences()}
			for i := range states {
				out.Sources = append(out.Sources, sourceState(&states[i]))
			}
			return answer(out), nil
		})
	huma.Register(s.api, operation(http.MethodGet, "/api/v1/sources/{name}", "get-source", "One source: its calls, limits, and how it has been doing", "sources"),
		func(ctx context.Context, in *SourceInput) (*body[wire.Source], error) {
			state, err := s.source(ctx, in.Name)
			if err != nil {
				return nil, err
			}
			return answer(sourceState(state)), nil
		})
	type enableInput struct {
		SourceInput
		Body struct {
			Enabled bool `json:"enabled"`
		}
	}
	huma.Register(s.api, operation(http.MethodPatch, "/api/v1/sources/{name}", "set-source", "Switch a source on or off", "sources"),
		func(ctx context.Context, in *enableInput) (*body[wire.Source], error) {
			if _, err := s.source(ctx, in.Name); err != nil {
				return nil, err
			}
			if err := s.Store.Enable(ctx, in.Name, in.Body.Enabled); err != nil {
				return nil, asProblem(err, "")
			}
			state, err := s.source(ctx, in.Name)
			if err != nil {
				return nil, err
			}
			state.Disabled = !in.Body.Enabled // the book hears of it in a moment
			return answer(sourceState(state)), nil
		})
	type preferInput struct {
		Dataset string `path:"dataset" maxLength:"40"`
		Body    struct {
			Sources []string `json:"sources" doc:"In order of preference; none leaves it to the order of the descriptions" maxItems:"20"`
			Compare bool     `json:"compare,omitempty" doc:"Ask the others too, and flag where they disagree"`
		}
	}
	huma.Register(s.api, operation(http.MethodPut, "/api/v1/preferences/{dataset}", "set-preference", "Prefer sources for a dataset", "sources"),
		func(ctx context.Context, in *preferInput) (*body[wire.Preference], error) {
			d := catalogue.Dataset(in.Dataset)
			if catalogue.Info(d) == nil {
				return nil, noDataset(in.Dataset)
			}
			for _, name := range in.Body.Sources {
				src := s.Engine.Source(name)
				if src == nil {
					return nil, s.noSource(name)
				}
				if !src.Serves(d) {
					return nil, problem(http.StatusUnprocessableEntity, problemBadRequest, "sources", "%s does not serve %s", name, d)
				}
			}
			if err := s.Store.Prefer(ctx, d, in.Body.Sources, in.Body.Compare); err != nil {
				return nil, asProblem(err, "")
			}
			return answer(wire.Preference{Dataset: in.Dataset, Sources: s.served(d, in.Body.Sources), Set: len(in.Body.Sources) > 0, Compare: in.Body.Compare}), nil
		})
	type checkInput struct {
		SourceInput
		Body struct {
			Dataset string `json:"dataset,omitempty" doc:"Check only what serves this dataset"`
			Symbol  string `json:"symbol,omitempty" doc:"Ask for this listing; for any that is covered when left out"`
		}
	}
	op := operation(http.MethodPost, "/api/v1/sources/{name}/check", "check-source", "Ask a source one thing by each of its calls, and say what came of it, raw and mapped", "sources")
	huma.Register(s.api, op, func(ctx context.Context, in *checkInput) (*body[wire.SourceChecks], error) {
		if _, err := s.source(ctx, in.Name); err != nil {
			return nil, err
		}
		d := catalogue.Dataset(in.Body.Dataset)
		if in.Body.Dataset != "" && catalogue.Info(d) == nil {
			return nil, noDataset(in.Body.Dataset)
		}
		id := int64(0)
		if in.Body.Symbol != "" {
			l, err := s.Book.Directory().Resolve(in.Body.Symbol)
			if err != nil {
				return nil, asProblem(err, "symbol")
			}
			id = l.ID
		}
		checks, err := s.Engine.Check(ctx, in.Name, d, id)
		if err != nil {
			return nil, asProblem(err, "")
		}
		out := wire.SourceChecks{Source: in.Name, Checks: []wire.SourceCheck{}}
		for i := range checks {
			out.Checks = append(out.Checks, Checked(&checks[i]))
		}
		return answer(out), nil
	})
}

func noDataset(name string) error {
	var all []string
	for _, info := range catalogue.Infos {
		all = append(all, string(info.Name))
	}
	return hinted(problem(http.StatusUnprocessableEntity, problemBadRequest, "dataset", "there is no dataset %q", name), "There are: "+strings.Join(all, ", ")+".")
}

func (s *Server) noSource(name string) error {
	var all []string
	states, err := s.Engine.Sources(context.Background())
	if err == nil {
		for i := range states {
			all = append(all, states[i].Name)
		}
	}
	hint := "There are: " + strings.Join(all, ", ") + "."
	if len(all) == 0 {
		hint = "No source is connected: start the service with --sources and a folder of descriptions."
	}
	return hinted(problem(http.StatusNotFound, problemNotFound, "source", "there is no source %q", name), hint)
}

func (s *Server) source(ctx context.Context, name string) (*refresh.SourceState, error) {
	states, err := s.Engine.Sources(ctx)
	if err != nil {
		return nil, asProblem(err, "")
	}
	for i := range states {
		if states[i].Name == name {
			return &states[i], nil
		}
	}
	return nil, s.noSource(name)
}

// preferences lists the order of sources for each dataset that any serves.
func (s *Server) preferences() []wire.Preference {
	p := s.Book.Preferences()
	out := []wire.Preference{}
	for _, info := range catalogue.Infos {
		if order := s.served(info.Name, p.Order[info.Name]); len(order) > 0 {
			out = append(out, wire.Preference{Dataset: string(info.Name), Sources: order, Set: len(p.Order[info.Name]) > 0, Compare: len(p.Compare[info.Name]) > 0})
		}
	}
	return out
}

// served lists the sources that serve a dataset, the preferred first.
func (s *Server) served(d catalogue.Dataset, prefer []string) []string {
	out := []string{}
	for _, name := range append(slices.Clone(prefer), s.Engine.SourceNames()...) {
		if src := s.Engine.Source(name); src != nil && src.Serves(d) && !slices.Contains(out, name) {
			out = append(out, name)
		}
	}
	return out
}

func sourceState(state *refresh.SourceState) wire.Source {
	out := wire.Source{
		Name: state.Name, Title: state.Title, Licence: state.Licence, Homepage: state.Homepage, Address: state.Location(), DelayMin: state.Delay.Minutes(),
		HasKey: state.HasKey(), Enabled: !state.Disabled, PerSecond: state.Limits.PerSecond, AtOnce: state.Limits.AtOnce,
		UnitsPerDay: state.Limits.UnitsPerDay, Spent: state.SpentToday, Left: state.Left, Resets: state.Resets.UTC(), Requests: state.SourceHealth.Requests, Failures: state.Failures,
		LastSuccess: state.LastSuccess, LastFault: state.LastFault, Fault: state.Fault, Remark: state.Remark, Broken: state.Broken, LatencyMs: state.MedianMs, SlowMs: state.SlowMs,
		Datasets: names(state.Datasets()), Calls: []wire.Call{},
	}
	if state.Access.Key != nil {
		out.KeySetting = source.KeyVariable(state.Name)
	}
	if state.Fault != "" {
		out.Advice = source.AdviceFor(state.Fault)
	}
	for _, c := range state.Description.Calls {
		call := wire.Call{Name: c.Name, Datasets: names(c.Serves), Takes: c.Takes, Batch: c.Batch.Symbols, Format: string(c.Format.Kind), Path: c.Path, PerRequest: c.Cost.Request, PerSymbol: c.Cost.Symbol}
		if call.Takes == "" {
			call.Takes = "symbols"
		}
		for _, k := range c.Kinds {
			call.Kinds = append(call.Kinds, string(k))
		}
		out.Calls = append(out.Calls, call)
	}
	return out
}

// Checked is the account of one call's check for readers.
func Checked(c *source.Check) wire.SourceCheck {
	out := wire.SourceCheck{Call: c.Call, Datasets: names(c.Datasets), Asked: c.Asked, Verdict: "works"}
	if c.Skipped != "" {
		out.Verdict, out.Detail = "skipped", c.Skipped
		return out
	}
	if c.Fault != nil {
		out.Verdict, out.Detail, out.Advice = string(c.Fault.Kind), c.Fault.Detail, c.Fault.Advice()
	}
	if a := c.Answer; a != nil {
		last := a.Last()
		out.Remarks, out.Address, out.Status, out.Units, out.Begins = a.Remarks, last.Address, last.Status, a.Units(), last.Beginning
		out.TookMs = float64(last.Took.Microseconds()) / 1000
		for _, f := range a.Failures {
			out.Remarks = append(out.Remarks, f.Symbol.String()+": "+f.Reason.String()+": "+f.Detail)
		}
		if c.Fault == nil && !a.Same && len(c.Samples) == 0 {
			out.Remarks = append(out.Remarks, "the answer holds no record; ask for a listing that has some")
		}
		if a.Same {
			out.Remarks = append(out.Remarks, "nothing has changed since it was last asked")
		}
	}
	for _, x := range c.Samples {
		sample := wire.Sample{Dataset: string(x.Dataset), Symbol: x.Symbol, Place: x.Place}
		for _, f := range x.Fields {
			sample.Fields = append(sample.Fields, wire.SampleField(f))
		}
		out.Samples = append(out.Samples, sample)
	}
	return out
}

func (s *Server) addSchedules() {
	huma.Register(s.api, operation(http.MethodGet, "/api/v1/watchlists/{name}/schedule", "get-schedule", "When a watchlist refreshes by itself", "refreshes"),
		func(ctx context.Context, in *ListInput) (*body[wire.Schedule], error) {
			list, err := s.list(ctx, in.Name)
			if err != nil {
				return nil, err
			}
			x, err := s.Store.ScheduleOf(ctx, list.ID)
			if err == store.ErrNotFound {
				return answer(wire.Schedule{}), nil
			}
			if err != nil {
				return nil, asProblem(err, "")
			}
			return answer(scheduled(&x)), nil
		})
	type scheduleInput struct {
		ListInput
		Body wire.Schedule
	}
	huma.Register(s.api, operation(http.MethodPut, "/api/v1/watchlists/{name}/schedule", "set-schedule", "Refresh a watchlist at set times or following sessions; an empty schedule ends it", "refreshes"),
		func(ctx context.Context, in *scheduleInput) (*body[wire.Schedule], error) {
			list, err := s.list(ctx, in.Name)
			if err != nil {
				return nil, err
			}
			if in.Body.Cron == "" && in.Body.Every == "" {
				if err := s.Store.EndSchedule(ctx, list.ID); err != nil {
					return nil, asProblem(err, "")
				}
				return answer(wire.Schedule{}), nil
			}
			x := store.Schedule{WatchlistID: list.ID, Cron: in.Body.Cron, Zone: in.Body.Zone}
			if x.Zone == "" {
				x.Zone = "UTC"
			}
			switch {
			case in.Body.Cron != "" && in.Body.Every != "":
				return nil, problem(http.StatusUnprocessableEntity, problemBadRequest, "every", "give either set times or an interval, not both")
			case in.Body.Cron != "":
				if _, _, err := refresh.ParseCron(x.Cron, x.Zone); err != nil {
					return nil, problem(http.StatusUnprocessableEntity, problemBadRequest, "cron", "%s", err)
				}
			default:
				every, err := time.ParseDuration(in.Body.Every)
				if err != nil || every < time.Minute || every > 24*time.Hour {
					return nil, problem(http.StatusUnprocessableEntity, problemBadRequest, "every", "%q is not an interval between 1m and 24h: write it as 15m", in.Body.Every)
				}
				x.EveryS = int(every.Seconds())
			}
			if x.NextAt, err = s.Engine.NextTime(ctx, x); err != nil {
				return nil, asProblem(err, "")
			}
			if err := s.Store.SetSchedule(ctx, x); err != nil {
				return nil, asProblem(err, "")
			}
			return answer(scheduled(&x)), nil
		})
}

func scheduled(x *store.Schedule) wire.Schedule {
	out := wire.Schedule{Cron: x.Cron}
	if x.Cron != "" {
		out.Zone = x.Zone
	} else {
		out.Every = strings.TrimSuffix((time.Duration(x.EveryS) * time.Second).String(), "0s")
	}
	if x.NextAt != nil {
		out.Next = moment(*x.NextAt)
	}
	if x.LastAt != nil {
		out.Last = moment(*x.LastAt)
	}
	return out
}
