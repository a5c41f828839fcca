package httpapi

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/csv"
	"encoding/hex"
	"errors"
	"fmt"
	"net/http"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/gofiber/fiber/v3"

	"soba.invalid/soba/internal/core/catalogue"
	"soba.invalid/soba/internal/core/cell"
	"soba.invalid/soba/internal/core/formula"
	"soba.invalid/soba/internal/core/market"
	"soba.invalid/soba/internal/core/statement"
	"soba.invalid/soba/internal/core/table"
	"soba.invalid/soba/internal/store"
	"soba.invalid/soba/internal/wire"
)

// TableQuery says what a table holds.
type TableQuery struct {
	Columns string `query:"columns" doc:"Fields, joined by commas, each with an optional @period; of the view when left out" maxLength:"8000"`
	View    string `query:"view" doc:"A named set of columns" default:"overview"`
	Where   string `query:"where" doc:"A condition that rows must meet, as quote.change_pct > 1%" maxLength:"4000"`
	Sort    string `query:"sort" doc:"Fields, joined by commas, with a leading minus for descending" maxLength:"1000"`
	In      string `query:"in" doc:"Convert prices and amounts into one currency (ISO 4217) by reference rates" maxLength:"3"`
	AsOf    string `query:"as_of" doc:"Read as it was known at an instant: a date, whose end is meant, or an RFC 3339 time"`
}

func (q *TableQuery) refs() ([]formula.Ref, error) {
	if q.Columns != "" {
		refs, err := catalogue.ParseColumns(strings.Split(q.Columns, ","))
		if err != nil {
			return nil, badRequest(err, "columns")
		}
		return refs, nil
	}
	view := catalogue.FindView(q.View)
	if view == nil {
		names := make([]string, len(catalogue.Views))
		for i, v := range catalogue.Views {
			names[i] = v.Name
		}
		return nil, hinted(problem(http.StatusUnprocessableEntity, problemField, "view", "there is no view %q", q.View), "There are: "+strings.Join(names, ", ")+".")
	}
	return catalogue.ParseColumns(view.Columns)
}

func (q *TableQuery) compile() (*table.Program, error) {
	refs, err := q.refs()
	if err != nil {
		return nil, err
	}
	var keys []string
	if q.Sort != "" {
		keys = strings.Split(q.Sort, ",")
	}
	p, err := table.Compile(refs, q.Where, keys)
	if err != nil {
		field := "where"
		if q.Where == "" {
			field = "sort"
		}
		return nil, badRequest(err, field)
	}
	return p, nil
}

// instant reads as_of; the zero time is now.
func (q *TableQuery) instant(now time.Time) (time.Time, error) {
	if q.AsOf == "" {
		return time.Time{}, nil
	}
	at, err := time.Parse(time.RFC3339, q.AsOf)
	if err != nil {
		day, err := time.Parse(time.DateOnly, q.AsOf)
		if err != nil {
			return at, problem(http.StatusUnprocessableEntity, problemBadRequest, "as_of", "%q is not an instant: write it as 2026-01-31 or 2026-01-31T17:00:00Z", q.AsOf)
		}
		at = day.Add(24*time.Hour - time.Second)
	}
	if at.After(now) {
		return at, problem(http.StatusUnprocessableEntity, problemBadRequest, "as_of", "%s is in the future", q.AsOf)
	}
	return at, nil
}

// rendered is a table in its published form.
type rendered struct {
	version int64     // of the book when it was made
	until   time.Time // and until when it holds; zero: for ever
	away    bool      // it carries the notice that the database is
	etag    string
	quoted  string // as it stands in a header
	json    []byte
}

// tableCache keeps the tables that were asked for last, so that a table that has
// not changed is answered from memory.
type tableCache struct {
	mu        sync.Mutex
	entries   map[string]*rendered // by what was asked
	addresses map[string]*rendered // by the address under which it was asked
	evaluated atomic.Int64
}

// mostTables bounds the cache; when it is full it starts anew.
const mostTables = 64

func newTableCache() *tableCache {
	return &tableCache{entries: map[string]*rendered{}, addresses: map[string]*rendered{}}
}

// holds tells whether a table is still what an evaluation now would give.
func (s *Server) holds(r *rendered) bool {
	return r != nil && r.version == s.Book.Version() && r.away == s.Book.Away() && (r.until.IsZero() || s.Now().Before(r.until))
}

func (c *tableCache) get(from map[string]*rendered, key string) *rendered {
	c.mu.Lock()
	defer c.mu.Unlock()
	return from[key]
}

func (c *tableCache) put(in map[string]*rendered, key string, r *rendered) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if len(in) >= mostTables {
		clear(in)
	}
	in[key] = r
}

// fromMemory answers a table that was asked for under the same address before
// and still holds, without reading the request again.
func (s *Server) fromMemory(c fiber.Ctx) error {
	header := &c.Request().Header
	if p := s.permitted(c.Context(), string(header.Peek("Authorization")), "read"); p != nil {
		return p
	}
	if bytes.HasPrefix(header.Peek("Accept"), []byte("text/csv")) {
		return c.Next()
	}
	address := string(c.Request().RequestURI())
	r := s.tables.get(s.tables.addresses, address)
	if !s.holds(r) {
		c.Locals(renderedKey{}, &r)
		r = nil
		if err := c.Next(); err != nil || r == nil {
			return err
		}
		s.tables.put(s.tables.addresses, address, r)
		return nil
	}
	c.Response().Header.Set("ETag", r.quoted)
	if string(header.Peek("If-None-Match")) == r.quoted {
		c.Status(http.StatusNotModified)
		return nil
	}
	c.Set("Content-Type", "application/json")
	c.Response().SetBodyRaw(r.json) // it never changes, so it need not be copied
	return nil
}

// renderedKey is where the typed handler leaves the table it has rendered.
type renderedKey struct{}

// evaluate computes the table of a watchlist.
func (s *Server) evaluate(ctx context.Context, list *store.List, q *TableQuery) (*table.Table, error) {
	p, err := q.compile()
	if err != nil {
		return nil, err
	}
	now := s.Now()
	at, err := q.instant(now)
	if err != nil {
		return nil, err
	}
	read := func(rows []store.Row) ([]*table.Record, error) { return s.Book.Records(ctx, rows, p.Since(now)) }
	if !at.IsZero() {
		now = at
		read = func(rows []store.Row) ([]*table.Record, error) { return s.Book.RecordsAt(ctx, rows, at, p.Since(at)) }
	}
	records, err := read(list.Rows)
	if err != nil {
		return nil, asProblem(err, "")
	}
	in, err := s.conversion(q.In, p.Converts(records), now, read)
	if err != nil {
		return nil, err
	}
	return p.EvaluateIn(in, records, now, s.Limits), nil
}

// conversion is the currency that is asked for, with the rates of all listed pairs
// as they are read; without a currency only where they are needed all the same.
func (s *Server) conversion(to string, needed bool, now time.Time, read func([]store.Row) ([]*table.Record, error)) (table.Conversion, error) {
	if to == "" && !needed {
		return table.Conversion{}, nil
	}
	if to != "" && !market.IsCurrency(to) {
		return table.Conversion{}, problem(http.StatusUnprocessableEntity, problemBadRequest, "in", "%q is not a currency: write its ISO 4217 code, as EUR", to)
	}
	var rows []store.Row
	for _, l := range s.Book.Directory().Ordered {
		if l.Symbol.IsPair() {
			rows = append(rows, store.Row{ListingID: l.ID})
		}
	}
	pairs, err := read(rows)
	if err != nil {
		return table.Conversion{}, asProblem(err, "")
	}
	return table.Conversion{To: to, Rates: table.RatesOf(pairs, now, s.Limits)}, nil
}

// render computes a watchlist's table in JSON, or takes it from memory.
func (s *Server) render(ctx context.Context, list *store.List, q *TableQuery) (*rendered, error) {
	key := fmt.Sprintf("%d\x00%s\x00%s\x00%s\x00%s\x00%s\x00%s\x00%s", list.ID, list.Name, q.Columns, q.View, q.Where, q.Sort, q.In, q.AsOf)
	if r := s.tables.get(s.tables.entries, key); s.holds(r) {
		return r, nil
	}
	version, away := s.Book.Version(), s.Book.Away()
	t, err := s.evaluate(ctx, list, q)
	if err != nil {
		return nil, err
	}
	s.tables.evaluated.Add(1)
	notice := ""
	if away {
		notice = "The database does not answer; this is what was last read from it."
	}
	r := &rendered{version: version, until: t.Until, away: away}
	content := appendTable(nil, t)
	sum := sha256.Sum256(content)
	r.etag = hex.EncodeToString(sum[:12])
	r.quoted = `"` + r.etag + `"`
	head := fmt.Appendf(make([]byte, 0, len(content)+512), `{"watchlist":%s,"as_of":%q,"version":%q,"of":%d,`, cell.AppendText(nil, list.Name), t.AsOf.UTC().Format(time.RFC3339), r.etag, t.Of)
	if q.In != "" {
		head = fmt.Appendf(head, `"in":%q,`, q.In)
	}
	if notice != "" {
		head = append(append(append(head, `"notice":`...), cell.AppendText(nil, notice)...), ',')
	}
	r.json = append(head, content...)
	s.tables.put(s.tables.entries, key, r)
	return r, nil
}

// appendTable writes what a table holds, from the columns on.
func appendTable(b []byte, t *table.Table) []byte {
	b = append(b, `"columns":[`...)
	for i, c := range t.Program.Columns {
		if i > 0 {
			b = append(b, ',')
		}
		b = fmt.Appendf(b, `{"id":%q,"label":%q,"unit":%q,"definition":%s}`, c.Ref, label(c), c.Field.Unit, cell.AppendText(nil, c.Field.Definition))
	}
	b = append(b, `],"rows":[`...)
	for i := range t.Rows {
		if i > 0 {
			b = append(b, ',')
		}
		row := &t.Rows[i]
		l := row.Record.Listing
		b = append(b, `{"symbol":`...)
		b = cell.AppendText(b, l.Symbol.String())
		b = append(b, `,"name":`...)
		b = cell.AppendText(b, l.Name)
		b = fmt.Appendf(b, `,"kind":%q,"currency":%q,"held":%t,"cells":[`, l.Kind, l.Currency, row.Record.Held)
		for c := range t.Program.Columns {
			if c > 0 {
				b = append(b, ',')
			}
			b = row.Cells[c].AppendJSON(b)
		}
		b = append(b, "]}"...)
	}
	return fmt.Appendf(b, `],"counts":{"fresh":%d,"stale":%d,"pending":%d,"missing":%d}}`, t.Counts[cell.Fresh], t.Counts[cell.Stale], t.Counts[cell.Pending], t.Counts[cell.Missing])
}

func label(c table.Column) string {
	if p := c.Ref.Period.String(); p != "" {
		return c.Field.Label + " " + p
	}
	return c.Field.Label
}

type rawOutput struct {
	ContentType string `header:"Content-Type"`
	ETag        string `header:"ETag"`
	Status      int
	Body        []byte
}

func (s *Server) addTables() {
	type tableInput struct {
		ListInput
		TableQuery
		IfNoneMatch string `header:"If-None-Match"`
		Accept      string `header:"Accept"`
		Format      string `query:"format" enum:"json,csv" doc:"Overrides Accept"`
	}
	op := operation(http.MethodGet, "/api/v1/watchlists/{name}/table", "get-table", "A watchlist as a table, in one call", "tables")
	op.Responses = map[string]*huma.Response{"200": {Description: "The table; as CSV, one line a row", Content: map[string]*huma.MediaType{
		"application/json": {Schema: s.api.OpenAPI().Components.Schemas.Schema(reflectTable, true, "Table")},
		"text/csv":         {Schema: &huma.Schema{Type: "string"}},
	}}, "304": {Description: "Nothing changed"}}
	s.app.Get("/api/v1/watchlists/:name/table", s.fromMemory)
	huma.Register(s.api, op, func(ctx context.Context, in *tableInput) (*rawOutput, error) {
		list, err := s.readable(ctx, in.Name)
		if err != nil {
			return nil, err
		}
		if in.Format == "csv" || in.Format == "" && strings.HasPrefix(in.Accept, "text/csv") {
			t, err := s.evaluate(ctx, list, &in.TableQuery)
			if err != nil {
				return nil, err
			}
			return &rawOutput{ContentType: "text/csv; charset=utf-8; header=present", Status: http.StatusOK, Body: tableCSV(t)}, nil
		}
		r, err := s.render(ctx, list, &in.TableQuery)
		if err != nil {
			return nil, err
		}
		if kept, ok := ctx.Value(renderedKey{}).(**rendered); ok {
			*kept = r
		}
		if in.IfNoneMatch == r.quoted {
			return &rawOutput{Status: http.StatusNotModified, ETag: r.quoted}, nil
		}
		return &rawOutput{ContentType: "application/json", ETag: r.quoted, Status: http.StatusOK, Body: r.json}, nil
	})
	type healthInput struct {
		ListInput
		Columns string `query:"columns" maxLength:"8000"`
		View    string `query:"view" default:"overview"`
		Years   int    `query:"min_years" doc:"How many years of accounts are wanted; names with fewer are listed" minimum:"0" maximum:"100"`
	}
	huma.Register(s.api, operation(http.MethodGet, "/api/v1/watchlists/{name}/health", "get-health", "What is stale or missing, why, and what to do", "tables"),
		func(ctx context.Context, in *healthInput) (*body[wire.Health], error) {
			list, err := s.readable(ctx, in.Name)
			if err != nil {
				return nil, err
			}
			t, err := s.evaluate(ctx, list, &TableQuery{Columns: in.Columns, View: in.View})
			if err != nil {
				return nil, err
			}
			out := health(list.Name, t)
			if in.Years > 0 {
				out.Short = s.short(t, in.Years)
			}
			return answer(out), nil
		})
	type conflictsInput struct {
		ListInput
		Tolerance float64 `query:"tolerance" default:"0.05" minimum:"0" maximum:"1" doc:"By which a computed ratio may differ from the vendor's, as a fraction"`
	}
	huma.Register(s.api, operation(http.MethodGet, "/api/v1/watchlists/{name}/conflicts", "get-conflicts", "Values of which two sources, or we and a vendor, differ", "tables"),
		func(ctx context.Context, in *conflictsInput) (*body[wire.Conflicts], error) {
			list, err := s.readable(ctx, in.Name)
			if err != nil {
				return nil, err
			}
			now := s.Now()
			read := func(rows []store.Row) ([]*table.Record, error) { return s.Book.Records(ctx, rows, 0) }
			records, err := read(list.Rows)
			if err != nil {
				return nil, asProblem(err, "")
			}
			rates, err := s.conversion("", true, now, read) // for accounts in another currency than prices
			if err != nil {
				return nil, err
			}
			found, err := table.Conflicts(rates, records, now, s.Limits, in.Tolerance)
			if err != nil {
				return nil, asProblem(err, "")
			}
			out := wire.Conflicts{Watchlist: list.Name, Tolerance: in.Tolerance, Conflicts: []wire.Conflict{}}
			for i := range found {
				c := &found[i]
				l := c.Row.Record.Listing
				w := wire.Conflict{Symbol: l.Symbol.String(), Name: l.Name, Field: c.Ref.String(), Cell: account(&c.Cell)}
				if c.Theirs.ID != "" {
					other := account(&c.Other)
					w.Theirs, w.Other = c.Theirs.String(), &other
				}
				out.Conflicts = append(out.Conflicts, w)
			}
			return answer(out), nil
		})
	s.addValues()
}

func counts(c [4]int) wire.Counts {
	return wire.Counts{Fresh: c[cell.Fresh], Stale: c[cell.Stale], Pending: c[cell.Pending], Missing: c[cell.Missing]}
}

func health(name string, t *table.Table) wire.Health {
	h := t.Diagnose()
	out := wire.Health{Watchlist: name, AsOf: t.AsOf.UTC(), Counts: counts(t.Counts), Groups: []wire.HealthGroup{}, Fields: []wire.FieldHealth{}}
	for _, g := range h.Groups {
		group := wire.HealthGroup{State: g.State.String(), Reason: g.Reason.String(), Meaning: g.Reason.Meaning(), Advice: g.Reason.Advice(), Cells: g.Cells}
		for _, n := range g.Names {
			group.Names = append(group.Names, wire.NameHealth{Symbol: n.Record.Listing.Symbol.String(), Name: n.Record.Listing.Name, Fields: n.Fields, Detail: n.Detail})
		}
		out.Groups = append(out.Groups, group)
	}
	for _, f := range h.Fields {
		out.Fields = append(out.Fields, wire.FieldHealth{Field: f.Ref.String(), Counts: counts(f.Counts), NotApplicable: f.NotApplicable})
	}
	return out
}

// short are the names with fewer years of accounts than are wanted, and what to do about
// each: a source that has not been asked may have more.
func (s *Server) short(t *table.Table, wanted int) (out []wire.ShortHistory) {
	for i := range t.Rows {
		r := t.Rows[i].Record
		if !catalogue.Info(catalogue.Statements).Has(r.Listing.Kind) {
			continue
		}
		account, given := r.Account(catalogue.Statements, t.AsOf, s.Limits)
		x := wire.ShortHistory{Symbol: r.Listing.Symbol.String(), Name: r.Listing.Name}
		if given != nil {
			n, first := given.Accounts.Whole()
			if n >= wanted {
				continue
			}
			x.Years, x.Reason = n, cell.ShortHistory.String()
			if first != nil {
				x.From = first.Label()
			}
		} else {
			x.Reason = account.Reason.String()
		}
		var unasked []string
		for _, l := range s.Engine.Serving(catalogue.Statements) {
			if g := r.Feeds[table.FeedOf(catalogue.Statements)].By(l); g == nil || g.Attempt == nil {
				unasked = append(unasked, l)
			}
		}
		switch {
		case account.Reason == cell.NeverFetched:
			x.Advice = fmt.Sprintf("Fetch them: 'soba refresh %s --only statements'.", x.Symbol)
		case len(unasked) > 0:
			x.Advice = fmt.Sprintf("Ask %s too: 'soba refresh %s --only statements --force --compare'.", strings.Join(unasked, " and "), x.Symbol)
		default:
			x.Advice = "Every source that serves accounts has been asked; connect another, or a folder of filings."
		}
		out = append(out, x)
	}
	return out
}

// tableCSV writes a table by RFC 4180 with a header of field ids. Texts that a
// spreadsheet would run as a formula are made harmless with an apostrophe.
func tableCSV(t *table.Table) []byte {
	var b strings.Builder
	w := csv.NewWriter(&b)
	w.UseCRLF = true
	line := []string{"symbol"}
	for _, c := range t.Program.Columns {
		line = append(line, c.Ref.String())
	}
	w.Write(line) //nolint:errcheck // a builder takes everything
	for i := range t.Rows {
		line = append(line[:0], harmless(t.Rows[i].Record.Listing.Symbol.String()))
		for c := range t.Program.Columns {
			line = append(line, plainText(&t.Rows[i].Cells[c]))
		}
		w.Write(line) //nolint:errcheck
	}
	w.Flush()
	return []byte(b.String())
}

// plainText is a value for other programs: unrounded, empty where there is none.
func plainText(c *cell.Cell) string {
	switch c.Value.Kind {
	case cell.None:
		return ""
	case cell.Text:
		return harmless(c.Value.Text)
	}
	return strings.Trim(string(c.Value.AppendJSON(nil)), `"`)
}

func harmless(text string) string {
	if text != "" && strings.ContainsRune("=+-@\t\r", rune(text[0])) {
		return "'" + text
	}
	return text
}

func (s *Server) addValues() {
	type valuesInput struct {
		Symbols string `query:"symbols" required:"true" doc:"Joined by commas" maxLength:"8000"`
		Fields  string `query:"fields" required:"true" doc:"Joined by commas, each with an optional @period" maxLength:"8000"`
		In      string `query:"in" doc:"Convert prices and amounts into one currency" maxLength:"3"`
		AsOf    string `query:"as_of"`
	}
	op := operation(http.MethodGet, "/api/v1/values", "get-values", "Many symbols by many fields, in one call", "tables")
	op.Responses = map[string]*huma.Response{"200": {Description: "A table", Content: map[string]*huma.MediaType{
		"application/json": {Schema: s.api.OpenAPI().Components.Schemas.Schema(reflectTable, true, "Table")},
	}}}
	huma.Register(s.api, op, func(ctx context.Context, in *valuesInput) (*rawOutput, error) {
		list, err := s.adHoc(strings.Split(in.Symbols, ","))
		if err != nil {
			return nil, err
		}
		t, err := s.evaluate(ctx, list, &TableQuery{Columns: in.Fields, In: in.In, AsOf: in.AsOf})
		if err != nil {
			return nil, err
		}
		head := fmt.Appendf(nil, `{"watchlist":"","as_of":%q,"version":"","of":%d,`, t.AsOf.UTC().Format(time.RFC3339), t.Of)
		if in.In != "" {
			head = fmt.Appendf(head, `"in":%q,`, in.In)
		}
		return &rawOutput{ContentType: "application/json", Status: http.StatusOK, Body: appendTable(head, t)}, nil
	})
	type explainInput struct {
		Symbol    string `query:"symbol" required:"true" maxLength:"60"`
		Field     string `query:"field" required:"true" maxLength:"100"`
		Watchlist string `query:"watchlist" doc:"For holding fields, which belong to a list" maxLength:"80"`
		AsOf      string `query:"as_of"`
	}
	huma.Register(s.api, operation(http.MethodGet, "/api/v1/explain", "explain", "The full account of a cell, down to the stored response", "tables"),
		func(ctx context.Context, in *explainInput) (*body[wire.Explanation], error) {
			e, err := s.explain(ctx, in.Symbol, in.Field, in.Watchlist, in.AsOf)
			if err != nil {
				return nil, err
			}
			return answer(*e), nil
		})
	type valueInput struct {
		Symbol string `query:"symbol" required:"true" maxLength:"60"`
		Field  string `query:"field" required:"true" maxLength:"100"`
		AsOf   string `query:"as_of"`
	}
	textOp := operation(http.MethodGet, "/api/v1/value", "get-value", "One value as plain text", "tables")
	textOp.Responses = map[string]*huma.Response{"200": {Description: "The value, unrounded", Content: map[string]*huma.MediaType{"text/plain": {Schema: &huma.Schema{Type: "string"}}}}}
	huma.Register(s.api, textOp, func(ctx context.Context, in *valueInput) (*rawOutput, error) {
		list, err := s.adHoc([]string{in.Symbol})
		if err != nil {
			return nil, err
		}
		t, err := s.evaluate(ctx, list, &TableQuery{Columns: in.Field, AsOf: in.AsOf})
		if err != nil {
			return nil, err
		}
		c := &t.Rows[0].Cells[0]
		if c.Absent() {
			return nil, hinted(problem(http.StatusNotFound, problemNotFound, in.Field, "%s of %s is %s: %s", in.Field, in.Symbol, c.State, strings.TrimSpace(c.Reason.String()+" "+c.Detail)), c.Reason.Advice())
		}
		return &rawOutput{ContentType: "text/plain; charset=utf-8", Status: http.StatusOK, Body: []byte(plainText(c) + "\n")}, nil
	})
}

// adHoc is a list of symbols that is not kept.
func (s *Server) adHoc(symbols []string) (*store.List, error) {
	list := &store.List{}
	for _, text := range symbols {
		l, err := s.Book.Directory().Resolve(text)
		if err != nil {
			return nil, asProblem(err, "symbols")
		}
		list.Rows = append(list.Rows, store.Row{ListingID: l.ID})
	}
	return list, nil
}

func (s *Server) explain(ctx context.Context, symbol, field, name, asOf string) (*wire.Explanation, error) {
	l, err := s.Book.Directory().Resolve(symbol)
	if err != nil {
		return nil, asProblem(err, "symbol")
	}
	list := &store.List{Rows: []store.Row{{ListingID: l.ID}}}
	if name != "" {
		if list, err = s.readable(ctx, name); err != nil {
			return nil, err
		}
	}
	t, err := s.evaluate(ctx, list, &TableQuery{Columns: field, AsOf: asOf})
	if err != nil {
		return nil, err
	}
	for i := range t.Rows {
		if t.Rows[i].Record.Listing.ID == l.ID {
			e, err := s.explanation(ctx, l, t.Explain(&t.Rows[i], 0))
			return &e, err
		}
	}
	return nil, problem(http.StatusNotFound, problemNotFound, "symbol", "%s is not in the watchlist %s", l.Symbol, list.Name)
}

func (s *Server) explanation(ctx context.Context, l *market.Listing, e table.Explanation) (wire.Explanation, error) {
	c := e.Cell
	out := wire.Explanation{
		Symbol: l.Symbol.String(), Field: e.Ref.String(), Label: e.Field.Label, Definition: e.Field.Definition, Reference: e.Field.Reference,
		Readable: c.Readable(), Cell: account(&c), Formula: e.Formula, Span: e.Field.Span,
	}
	if c.Reason != cell.NoReason {
		out.Meaning, out.Advice = c.Reason.Meaning(), c.Reason.Advice()
	}
	response := int64(0)
	for i := range e.Given {
		g := &e.Given[i]
		if i > 0 {
			out.Others = append(out.Others, otherSource(&e, g))
			continue
		}
		if o := g.Observation; o != nil {
			response, out.Place = o.Response, o.Place
			if e.Field.Observed && e.Field.Dataset != catalogue.Holdings {
				raw, err := s.Store.Raw(ctx, l.ID, e.Field.Dataset, g.Source, o.Fetched)
				if err != nil && !errors.Is(err, store.ErrNotFound) {
					return out, asProblem(err, "")
				}
				out.RawName, out.RawText = raw[e.Field.ID].Name, raw[e.Field.ID].Text
			}
		}
		if a := g.Attempt; a != nil {
			at := a.At.UTC()
			out.Checked = &at
			if g.Observation == nil {
				response = a.Response
			}
		}
	}
	var err error
	for _, r := range e.Reports {
		w := wire.ReportRead{Label: r.Label(), End: r.End.String(), Less: r.Less, Place: r.Place}
		if r.Filed != 0 {
			w.Filed = r.Filed.String()
		}
		if w.Request, err = s.broughtBy(ctx, r.Response); err != nil {
			return out, err
		}
		out.Reports = append(out.Reports, w)
		response, out.Place = r.Response, r.Place // of the newest
	}
	if out.Request, err = s.broughtBy(ctx, response); err != nil {
		return out, err
	}
	for _, b := range e.Besides {
		w := wire.Reading{Symbol: b.Record.Listing.Symbol.String(), Dataset: string(b.Dataset), Cell: account(&b.Account)}
		if b.Given != nil && b.Given.Observation != nil {
			if w.Request, err = s.broughtBy(ctx, b.Given.Observation.Response); err != nil {
				return out, err
			}
		}
		out.Besides = append(out.Besides, w)
	}
	for _, input := range e.Inputs {
		w, err := s.explanation(ctx, l, input)
		if err != nil {
			return out, err
		}
		out.Inputs = append(out.Inputs, w)
	}
	return out, nil
}

// broughtBy finds the request of a stored response; nil where it is no longer kept.
func (s *Server) broughtBy(ctx context.Context, response int64) (*wire.Request, error) {
	if response == 0 {
		return nil, nil
	}
	r, err := s.Store.Request(ctx, response)
	if errors.Is(err, store.ErrNotFound) {
		return nil, nil
	}
	if err != nil {
		return nil, asProblem(err, "")
	}
	w := request(r)
	return &w, nil
}

// otherSource is what a source that is not shown has given for the field.
func otherSource(e *table.Explanation, g *table.Given) wire.OtherSource {
	out := wire.OtherSource{Source: g.Source}
	if a := g.Attempt; a != nil {
		at := a.At.UTC()
		out.Checked, out.Outcome, out.Detail = &at, a.Outcome.String(), a.Detail
	}
	if o := g.Observation; o != nil && e.Field.Observed && e.Field.Slot() < len(o.Values) {
		c := cell.Cell{Value: o.Values[e.Field.Slot()]}
		out.V = account(&c).V
	}
	if line := statement.At(e.Field.ID); line >= 0 {
		if theirs, err := g.Accounts.Read(line, e.Ref.Period, e.Today); err == nil {
			out.V = theirs.Value
		} else if out.Detail == "" {
			out.Detail = err.Error()
		}
	}
	return out
}

func account(c *cell.Cell) wire.Cell {
	out := wire.Cell{Unit: c.Unit, State: c.State.String(), Reason: c.Reason.String(), Flags: c.Flags.Names(), Period: c.Period, Source: c.Source, Detail: c.Detail}
	switch c.Value.Kind {
	case cell.Number:
		out.V = c.Value.Num
	case cell.Text:
		out.V = c.Value.Text
	case cell.Moment:
		out.V = c.Value.Time().Format(time.RFC3339)
	case cell.Truth:
		out.V = c.Value.IsTrue()
	}
	out.Observed, out.Fetched = moment(c.Observed), moment(c.Fetched)
	return out
}

func moment(t time.Time) *time.Time {
	if t.IsZero() {
		return nil
	}
	t = t.UTC().Truncate(time.Second)
	return &t
}
