package source

import (
	"bytes"
	"cmp"
	"errors"
	"fmt"
	"maps"
	"net/url"
	"path/filepath"
	"reflect"
	"regexp"
	"slices"
	"strings"
	"time"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/parser"

	"soba.invalid/soba/internal/core/catalogue"
	"soba.invalid/soba/internal/core/cell"
	"soba.invalid/soba/internal/core/market"
	"soba.invalid/soba/internal/core/plan"
	"soba.invalid/soba/internal/source/clean"
	"soba.invalid/soba/internal/source/format"
	"soba.invalid/soba/internal/source/xbrl"
)

// A Problem is something wrong in a description, with its place in the file.
type Problem struct {
	File         string
	Line, Column int // 0 where there is no place to point at
	Text         string
}

func (p Problem) Error() string {
	if p.Line == 0 {
		return p.File + ": " + p.Text
	}
	return fmt.Sprintf("%s:%d:%d: %s", p.File, p.Line, p.Column, p.Text)
}

// Problems are all that is wrong in a description.
type Problems []Problem

func (p Problems) Error() string {
	texts := make([]string, len(p))
	for i := range p {
		texts[i] = p[i].Error()
	}
	return strings.Join(texts, "\n")
}

// Read reads a description strictly. The error is [Problems].
func Read(file string, text []byte) (*Description, error) {
	d := &Description{}
	if err := yaml.NewDecoder(bytes.NewReader(text), yaml.Strict()).Decode(d); err != nil {
		return nil, Problems{problemOf(file, err)}
	}
	tree, err := parser.ParseBytes(text, 0)
	if err != nil {
		return nil, Problems{problemOf(file, err)}
	}
	c := &compiler{file: file, tree: tree, d: d}
	c.description()
	if len(c.problems) > 0 {
		return nil, c.problems
	}
	return d, nil
}

// problemOf gives the decoder's complaint its place, and a misspelt key its nearest.
func problemOf(file string, err error) Problem {
	p := Problem{File: file, Text: err.Error()}
	var placed yaml.Error
	if errors.As(err, &placed) {
		p.Text = placed.GetMessage()
		if t := placed.GetToken(); t != nil {
			p.Line, p.Column = t.Position.Line, t.Position.Column
		}
	}
	if key, found := strings.CutPrefix(p.Text, "unknown field "); found {
		key = strings.Trim(key, `"`)
		p.Text = fmt.Sprintf("there is no key %q", key)
		if near := Nearest(key, slices.Sorted(maps.Keys(keys(reflect.TypeFor[Description]())))); near != "" {
			p.Text += fmt.Sprintf("; the nearest is %q", near)
		}
	}
	return p
}

// keys lists the keys that may stand anywhere in a description.
func keys(t reflect.Type) map[string]bool {
	for t.Kind() == reflect.Pointer || t.Kind() == reflect.Slice || t.Kind() == reflect.Map {
		t = t.Elem()
	}
	all := map[string]bool{}
	if t.Kind() != reflect.Struct {
		return all
	}
	for i := range t.NumField() {
		if name, _, _ := strings.Cut(t.Field(i).Tag.Get("yaml"), ","); name != "" {
			all[name] = true
			maps.Copy(all, keys(t.Field(i).Type))
		}
	}
	return all
}

// Nearest finds the name most like a misspelt one, or "".
func Nearest(misspelt string, names []string) string {
	best, least := "", len(misspelt)/2+1
	for _, name := range names {
		if d := catalogue.Distance(strings.ToLower(misspelt), strings.ToLower(name)); d < least {
			best, least = name, d
		}
	}
	return best
}

// compiler checks a description and prepares it for use.
type compiler struct {
	file     string
	tree     *ast.File
	d        *Description
	problems Problems
}

// wrong records a problem at a path of the file, as $.calls[0].path.
func (c *compiler) wrong(path, text string, args ...any) {
	p := Problem{File: c.file, Text: fmt.Sprintf(text, args...)}
	for at := path; at != ""; at = at[:max(strings.LastIndexAny(at, ".["), 0)] {
		where, err := yaml.PathString(at)
		if err != nil {
			continue
		}
		if node, err := where.FilterFile(c.tree); err == nil && node != nil {
			t := node.GetToken()
			p.Line, p.Column = t.Position.Line, t.Position.Column
			break
		}
	}
	c.problems = append(c.problems, p)
}

// orWrong records an error at a path; true when there was none.
func (c *compiler) orWrong(path string, err error) bool {
	if err != nil {
		c.wrong(path, "%s", err)
	}
	return err == nil
}

var nameForm = regexp.MustCompile(`^[a-z][a-z0-9-]*$`)

// Bounds that hold where a description sets none.
const (
	standardTimeout = 20 * time.Second
	standardWait    = time.Minute
	standardMiB     = 64
	standardRecords = 2_000_000
	standardPages   = 100

	standardDocuments = 20
)

func (c *compiler) description() {
	d := c.d
	if !nameForm.MatchString(d.Name) {
		c.wrong("$.name", "name %q: write it in lower-case letters, digits and hyphens", d.Name)
	}
	d.Title = cmp.Or(d.Title, d.Name)
	c.access()
	c.limits()
	c.symbols()
	c.orWrong("$.clean", d.Clean.Compile())
	for code, meaning := range d.Replies.Means {
		if _, known := faultWords[meaning]; !known {
			c.wrong("$.replies.means", "%s means %q, which is none of %s", code, meaning, strings.Join(slices.Sorted(maps.Keys(faultWords)), ", "))
		}
	}
	if len(d.Calls) == 0 {
		c.wrong("$", "there are no calls: a source must serve something")
	}
	names := map[string]bool{}
	for i, call := range d.Calls {
		at := fmt.Sprintf("$.calls[%d]", i)
		if len(call.Serves) == 0 {
			c.wrong(at, "the call serves no dataset: say serves: [quotes]")
			continue
		}
		call.Name = cmp.Or(call.Name, string(call.Serves[0]))
		if names[call.Name] {
			c.wrong(at, "there are two calls named %q: give one a name of its own", call.Name)
		}
		names[call.Name] = true
		c.call(call, at)
	}
	for i, call := range d.Calls {
		if other := d.call(call.Otherwise); call.Otherwise != "" && (other == nil || other == call) {
			c.wrong(fmt.Sprintf("$.calls[%d].otherwise", i), "there is no other call named %q", call.Otherwise)
		}
	}
}

func (d *Description) call(name string) *Call {
	for _, c := range d.Calls {
		if c.Name == name {
			return c
		}
	}
	return nil
}

func (c *compiler) access() {
	a := &c.d.Access
	switch {
	case (a.Address == "") == (a.Folder == ""):
		c.wrong("$.access", "give either an address or a folder")
	case a.Folder != "":
		if a.Key != nil {
			c.wrong("$.access.key", "a folder takes no key")
		}
		return
	}
	if a.Address != "" {
		c.orWrong("$.access.address", checkAddress(a.Address))
	}
	if a.Proxy != "" {
		c.orWrong("$.access.proxy", checkAddress(a.Proxy))
	}
	if k := a.Key; k != nil {
		switch k.In {
		case "header", "query", "basic":
			if k.Name == "" {
				c.wrong("$.access.key", "say the name of the %s that takes the key", k.In)
			}
		case "bearer":
		default:
			c.wrong("$.access.key", "in: %q is none of header, query, bearer, basic", k.In)
		}
	}
}

func checkAddress(address string) error {
	u, err := url.Parse(address)
	if err != nil || u.Scheme != "http" && u.Scheme != "https" || u.Host == "" {
		return fmt.Errorf("%q is not an http or https address", address)
	}
	if u.User != nil {
		return errors.New("the address holds a password: secrets belong into the environment or the secrets file")
	}
	return nil
}

func (c *compiler) limits() {
	l := &c.d.Limits
	l.AtOnce = max(l.AtOnce, 1)
	l.Timeout = cmp.Or(l.Timeout, standardTimeout)
	l.LongestWait = cmp.Or(l.LongestWait, standardWait)
	l.LargestMiB = cmp.Or(l.LargestMiB, standardMiB)
	l.Records = cmp.Or(l.Records, standardRecords)
	if l.PerSecond < 0 || l.UnitsPerDay < 0 || l.LargestMiB < 0 || l.Timeout < 0 || l.LongestWait < 0 || l.Records < 0 {
		c.wrong("$.limits", "a limit is below zero")
	}
	if l.DayStarts != "" {
		_, err := parseClock(l.DayStarts)
		c.orWrong("$.limits.day_starts", err)
	}
	if _, err := time.LoadLocation(cmp.Or(l.DayZone, "UTC")); err != nil {
		c.wrong("$.limits.day_zone", "%q is not a time zone: write it as Europe/London", l.DayZone)
	}
}

// DayOf is the span of the allowance's day around an instant.
func (l *Limits) DayOf(now time.Time) (starts, ends time.Time) {
	zone, err := time.LoadLocation(cmp.Or(l.DayZone, "UTC"))
	if err != nil {
		zone = time.UTC
	}
	clock, _ := parseClock(cmp.Or(l.DayStarts, "00:00")) // checked when the description was read
	y, m, d := now.In(zone).Date()
	starts = time.Date(y, m, d, int(clock)/60, int(clock)%60, 0, 0, zone)
	if starts.After(now) {
		starts = starts.AddDate(0, 0, -1)
	}
	return starts, starts.AddDate(0, 0, 1)
}

func (c *compiler) symbols() {
	s := &c.d.Symbols
	if s.Pair == "" {
		s.Write = cmp.Or(s.Write, "{ticker}.{exchange}")
	}
	check := func(path, template string, allowed ...string) {
		for _, m := range placeholder.FindAllStringSubmatch(template, -1) {
			if !slices.Contains(allowed, m[1]) {
				c.wrong(path, "{%s} stands for nothing here: there are {%s}", m[1], strings.Join(allowed, "}, {"))
			}
		}
		if template != "" && !placeholder.MatchString(template) {
			c.wrong(path, "%q is the same for every listing: use {%s}", template, strings.Join(allowed, "}, {"))
		}
	}
	check("$.symbols.write", s.Write, "ticker", "exchange", "isin", "code")
	check("$.symbols.pair", s.Pair, "base", "quote")
	for symbol := range s.Codes {
		if _, err := market.ParseSymbol(symbol); err != nil {
			c.wrong("$.symbols.codes", "%s", err)
		}
	}
}

// placeholder is a name in braces.
var placeholder = regexp.MustCompile(`\{([a-z]+)\}`)

var takesWords = map[string]plan.Takes{"": plan.Symbols, "symbols": plan.Symbols, "exchange": plan.Exchange, "day": plan.Day}

// compiled is a call made ready for use.
type compiled struct {
	takes    plan.Takes
	dates    string
	message  *format.Locator
	culprits *format.Locator
	failed   *format.Locator // where an answer says that it is none
	unknown  *format.Locator
	next     *format.Locator
	pages    *format.Locator
	errors   struct{ rows, symbol, code, message *format.Locator }
	index    *index // nil: the answer holds the records itself
	parts    []*part
	whole    bool // values stand outside the records, so the document is kept
}

// part is a [Part] made ready for use.
type part struct {
	dataset   catalogue.Dataset
	info      *catalogue.DatasetInfo
	selection format.Selection
	within    *format.Locator
	where     []condition
	symbol    *pick
	fields    map[string]*pick
	lines     *lines
}

// index is a [Documents] made ready for use.
type index struct {
	rows  *format.Locator
	link  *format.Locator
	where []condition
	most  int
}

// lines is a [Lines] made ready for use.
type lines struct {
	name, value *pick
	columns     map[string][]lineColumn // by name
}

// lineColumn is a column that a name of the long form stands for.
type lineColumn struct {
	at   int     // among the dataset's columns
	rank int     // of several names for one column the lowest counts
	sign float64 // what its values are multiplied by
}

type condition struct {
	at   *format.Locator
	want string
}

// pick is a [Pick] made ready for use.
type pick struct {
	*Pick
	at     *format.Locator
	match  *regexp.Regexp
	scale  float64
	rules  *clean.Rules
	layout string
	zone   *time.Location
}

func (c *compiler) call(call *Call, path string) {
	out := &compiled{}
	call.compiled = out
	takes, known := takesWords[call.Takes]
	if !known {
		c.wrong(path+".takes", "takes: %q is none of symbols, exchange, day", call.Takes)
	}
	out.takes = takes
	if !slices.Contains(format.Kinds, call.Format.Kind) {
		c.wrong(path+".format", "kind %q is none of %v", call.Format.Kind, format.Kinds)
		return
	}
	for _, d := range call.Serves {
		info := catalogue.Info(d)
		if info == nil {
			c.wrong(path+".serves", "there is no dataset %q; there are %s", d, strings.Join(datasetNames(), ", "))
			return
		}
		if takes == plan.Day && d != catalogue.Bars {
			c.wrong(path+".takes", "only bars can be asked for day by day, not %s", d)
		}
		if takes == plan.Exchange && info.Ranged {
			c.wrong(path+".takes", "%s go over a range of days: an exchange is asked for them with takes: day", d)
		}
	}
	for _, k := range call.Kinds {
		if !slices.Contains(market.Kinds, k) {
			c.wrong(path+".kinds", "there is no kind of listing %q; there are %v", k, market.Kinds)
		}
	}
	if call.Path == "" && c.d.Access.Folder != "" {
		c.wrong(path, "say the path: a pattern of file names in the folder, as *.csv")
	}
	if _, err := filepath.Match(call.Path, ""); c.d.Access.Folder != "" && (err != nil || strings.Contains(call.Path, "..")) {
		c.wrong(path+".path", "%q is not a pattern of file names within the folder", call.Path)
	}
	c.placeholders(call, path)
	call.Batch.Symbols = max(call.Batch.Symbols, 1)
	call.Batch.Separator = cmp.Or(call.Batch.Separator, ",")
	var err error
	out.dates, err = clean.Layout(cmp.Or(call.Dates, "YYYY-MM-DD"))
	c.orWrong(path+".dates", err)
	if call.Clean != nil {
		c.orWrong(path+".clean", call.Clean.Compile())
	} else {
		call.Clean = &c.d.Clean
	}
	place := func(at, text string) *format.Locator {
		if text == "" {
			return nil
		}
		l, err := format.Compile(call.Format.Kind, text)
		if !c.orWrong(at, err) {
			return nil
		}
		return l
	}
	// A source explains itself in JSON, or in the format of its answers.
	if call.Format.Kind == format.JSON || call.Format.Kind == format.XML {
		out.failed = place("$.replies.error", c.d.Replies.Error)
	}
	out.message, out.culprits = c.explanation("$.replies.message", c.d.Replies.Message), c.explanation("$.replies.culprits", c.d.Replies.Culprits)
	out.unknown = place(path+".unknown", call.Unknown)
	if e := call.Errors; e != nil {
		out.errors.rows, out.errors.symbol = place(path+".errors.rows", e.Rows), place(path+".errors.symbol", e.Symbol)
		out.errors.code, out.errors.message = place(path+".errors.code", e.Code), place(path+".errors.message", e.Message)
		if e.Rows == "" || e.Symbol == "" {
			c.wrong(path+".errors", "say rows and symbol")
		}
		for code, meaning := range e.Means {
			if _, known := cell.ParseReason(meaning); !known {
				c.wrong(path+".errors.means", "%s means %q, which is no reason: not_covered, not_permitted, not_reported or fetch_failed", code, meaning)
			}
		}
	}
	if p := call.Paging; p != nil {
		out.next, out.pages = place(path+".paging.next", p.Next), place(path+".paging.pages", p.Pages)
		p.Most = cmp.Or(p.Most, standardPages)
		switch {
		case p.By == "cursor" && (p.Next == "" || p.Parameter == ""):
			c.wrong(path+".paging", "paging by cursor: say where the next cursor stands and the parameter that takes it")
		case p.By == "page" && p.Parameter == "":
			c.wrong(path+".paging", "paging by page: say the parameter that takes the page number")
		case p.By != "cursor" && p.By != "page" && p.By != "link":
			c.wrong(path+".paging.by", "by: %q is none of cursor, page, link", p.By)
		}
	}
	if call.Documents != nil {
		out.index = c.index(call.Documents, path+".documents")
	}
	served := map[catalogue.Dataset]bool{}
	for i, p := range call.Parts {
		at := fmt.Sprintf("%s.parts[%d]", path, i)
		p.Dataset = cmp.Or(p.Dataset, call.Serves[0])
		if !slices.Contains(call.Serves, p.Dataset) {
			c.wrong(at+".dataset", "the call does not serve %q", p.Dataset)
			continue
		}
		served[p.Dataset] = true
		out.parts = append(out.parts, c.part(p, call, at, place))
	}
	for _, d := range call.Serves {
		if !served[d] {
			c.wrong(path+".parts", "no part says where the %s stand", d)
		}
	}
}

func (c *compiler) index(d *Documents, path string) *index {
	out := &index{most: cmp.Or(d.Most, standardDocuments)}
	if !slices.Contains([]format.Kind{format.JSON, format.XML, format.CSV}, d.Format.Kind) {
		c.wrong(path+".format", "an index is in json, xml or csv, not in %q", d.Format.Kind)
		return nil
	}
	if d.Link == "" {
		c.wrong(path, "say where the link to a document stands")
		return nil
	}
	place := func(at, text string) *format.Locator {
		l, err := format.Compile(d.Format.Kind, text)
		c.orWrong(at, err)
		return l
	}
	if d.Format.Kind.Tabular() && d.Rows != "" {
		c.wrong(path+".rows", "rows are for JSON and XML: a table's records are its rows")
	} else if d.Rows != "" {
		out.rows = place(path+".rows", d.Rows)
	}
	out.link = place(path+".link", d.Link)
	for name, want := range d.Where {
		out.where = append(out.where, condition{place(path+".where."+name, name), want})
	}
	return out
}

// explanation compiles a place in a refusal, which is in JSON whatever the answers are.
func (c *compiler) explanation(path, text string) *format.Locator {
	if text == "" {
		return nil
	}
	l, err := format.Compile(format.JSON, text)
	c.orWrong(path, err)
	return l
}

func datasetNames() []string {
	names := make([]string, len(catalogue.Infos))
	for i, info := range catalogue.Infos {
		names[i] = string(info.Name)
	}
	return names
}

// placeholders checks what is replaced in a call's path and query.
func (c *compiler) placeholders(call *Call, path string) {
	allowed := map[plan.Takes][]string{plan.Symbols: {"symbols", "symbol", "from", "to"}, plan.Exchange: {"exchange"}, plan.Day: {"exchange", "day"}}[call.compiled.takes]
	if call.Serves[0] == catalogue.Listings {
		allowed = []string{"exchange"}
		call.compiled.takes = plan.Symbols // each exchange is a need of its own
	}
	used := map[string]bool{}
	check := func(at, text string) {
		for _, m := range placeholder.FindAllStringSubmatch(text, -1) {
			used[m[1]] = true
			if !slices.Contains(allowed, m[1]) {
				c.wrong(at, "{%s} stands for nothing in this call: there are {%s}", m[1], strings.Join(allowed, "}, {"))
			}
		}
	}
	check(path+".path", call.Path)
	for name, text := range call.Query {
		check(path+".query."+name, text)
	}
	if used["symbol"] && call.Batch.Symbols > 1 {
		c.wrong(path+".batch", "{symbol} stands for one symbol, but the batch takes %d: write {symbols}", call.Batch.Symbols)
	}
	if info := catalogue.Info(call.Serves[0]); used["from"] != used["to"] && info.Ranged {
		c.wrong(path, "a range needs both {from} and {to}")
	}
}

func (c *compiler) part(p *Part, call *Call, path string, place func(at, text string) *format.Locator) *part {
	out := &part{dataset: p.Dataset, info: catalogue.Info(p.Dataset), fields: map[string]*pick{}}
	tabular := call.Format.Kind.Tabular()
	if call.Format.Kind == format.XBRL {
		c.facts(p, path)
	}
	if tabular && (p.Rows != "" || p.Within != "") {
		c.wrong(path, "rows and within are for JSON and XML: a table's records are its rows")
	}
	if !tabular {
		out.selection.Rows, out.within = place(path+".rows", p.Rows), place(path+".within", p.Within)
	}
	out.selection.Table = p.Table
	if call.Format.Kind == format.HTML && p.Table.Caption == "" && p.Table.Heading == "" && len(p.Table.Headers) == 0 {
		c.wrong(path, "say which table of the page is meant: by caption, heading or headers")
	}
	for name, want := range p.Where {
		if at := place(path+".where."+name, name); at != nil {
			out.where = append(out.where, condition{at, want})
		}
	}
	slices.SortFunc(out.where, func(a, b condition) int { return strings.Compare(a.at.String(), b.at.String()) })
	pickAt := func(at string, p *Pick) *pick {
		if p == nil {
			return nil
		}
		switch {
		case p.Of == "document":
			call.compiled.whole = true
		case p.Of == "index" && call.Documents == nil:
			c.wrong(at, "of: index is for calls that say documents")
			return nil
		case p.Of == "index":
			return c.pick(p, call, at, func(at, text string) *format.Locator {
				l, err := format.Compile(call.Documents.Format.Kind, text)
				c.orWrong(at, err)
				return l
			})
		}
		return c.pick(p, call, at, place)
	}
	out.symbol = pickAt(path+".symbol", p.Symbol)
	allowed := allowedFields(out.info)
	for name, p := range p.Fields {
		at := path + ".fields." + name
		if !slices.Contains(allowed, name) {
			near := Nearest(name, allowed)
			hint := "there are " + strings.Join(allowed, ", ")
			if near != "" {
				hint = fmt.Sprintf("the nearest is %q", near)
			}
			c.wrong(at, "%s have no field %q; %s", out.dataset, name, hint)
			continue
		}
		if p == nil {
			c.wrong(at, "say where %q stands", name)
			continue
		}
		out.fields[name] = pickAt(at, p)
	}
	if p.Lines != nil {
		out.lines = c.lines(p.Lines, out.info, path+".lines", pickAt)
	}
	for _, name := range requiredFields(out.info) {
		if p.Fields[name] == nil {
			c.wrong(path+".fields", "%s need the field %q", out.dataset, name)
		}
	}
	if p.Symbol == nil && p.Fields["ticker"] == nil && out.dataset == catalogue.Listings {
		c.wrong(path, "listings need a symbol, or the fields ticker and exchange")
	}
	if p.Symbol == nil && call.Batch.Symbols > 1 {
		c.wrong(path, "say where the symbol stands: a request may ask for %d", call.Batch.Symbols)
	}
	return out
}

// facts says of a part of an XBRL document what need not be said: every fact knows
// what it is of, and the concepts of the public taxonomies are known.
func (c *compiler) facts(p *Part, path string) {
	if p.Dataset != catalogue.Statements {
		c.wrong(path, "an XBRL document holds statements, not %s", p.Dataset)
		return
	}
	fields := map[string]*Pick{}
	for _, name := range []string{"end", "part", "year", "basis", "currency", "standard"} {
		fields[name] = &Pick{At: name}
	}
	maps.Copy(fields, p.Fields)
	lines := &Lines{concepts: true, Name: &Pick{At: format.FactConcept}, Value: &Pick{At: format.FactValue}}
	if p.Lines != nil {
		lines.Are = p.Lines.Are
	}
	p.Fields, p.Lines = fields, lines
}

func (c *compiler) lines(l *Lines, info *catalogue.DatasetInfo, path string, pickAt func(string, *Pick) *pick) *lines {
	out := &lines{columns: map[string][]lineColumn{}}
	if info.Shape != catalogue.Dated || l.Name == nil || l.Value == nil || len(l.Are) == 0 && !l.concepts {
		c.wrong(path, "lines are for datasets with records of many fields, and say name, value and are")
		return nil
	}
	out.name, out.value = pickAt(path+".name", l.Name), pickAt(path+".value", l.Value)
	for name, field := range l.Are {
		at := info.Column(field)
		if at < 0 {
			var all []string
			for _, col := range info.Columns {
				all = append(all, col.Name)
			}
			c.wrong(path+".are", "%s have no field %q; the nearest is %q", info.Name, field, Nearest(field, all))
			continue
		}
		out.columns[name] = []lineColumn{{at: at, sign: 1}}
	}
	if l.concepts {
		for i, k := range xbrl.Concepts {
			if _, said := l.Are[k.Name]; !said {
				out.columns[k.Name] = append(out.columns[k.Name], lineColumn{info.Column(k.Line), i + 1, k.Sign})
			}
		}
	}
	return out
}

// allowedFields are the names under which a dataset's values are mapped.
func allowedFields(info *catalogue.DatasetInfo) []string {
	var names []string
	switch info.Shape {
	case catalogue.Directory:
		return []string{"name", "isin", "kind", "currency", "issuer", "part", "ended", "ticker", "exchange"}
	case catalogue.Point:
		for _, f := range catalogue.ObservedIn(info.Name) {
			names = append(names, shortName(f))
		}
		if !slices.Contains(names, "time") {
			names = append(names, "time")
		}
	case catalogue.Prices:
		names = []string{"date", "open", "high", "low", "close", "volume"}
	case catalogue.Dated:
		for _, col := range info.Columns {
			names = append(names, col.Name)
		}
	}
	for _, extra := range []string{"currency", "minor"} {
		if !slices.Contains(names, extra) {
			names = append(names, extra)
		}
	}
	return names
}

func requiredFields(info *catalogue.DatasetInfo) []string {
	switch info.Shape {
	case catalogue.Directory:
		return []string{"name", "kind", "currency"}
	case catalogue.Prices:
		return []string{"date", "close"}
	case catalogue.Dated:
		var names []string
		for _, col := range info.Columns {
			if col.Required {
				names = append(names, col.Name)
			}
		}
		return names
	}
	return nil
}

// shortName is a field's id without its group.
func shortName(f *catalogue.Field) string {
	_, name, _ := strings.Cut(f.ID, ".")
	return name
}

var unitScales = map[string]float64{"": 1, "percent": 0.01, "thousands": 1e3, "millions": 1e6, "billions": 1e9, "hundredths": 0.01}

func (c *compiler) pick(p *Pick, call *Call, path string, place func(at, text string) *format.Locator) *pick {
	out := &pick{Pick: p, rules: call.Clean}
	if (p.At == "") == (p.Value == "") {
		c.wrong(path, "say either at or value")
		return out
	}
	out.at = place(path, p.At)
	var err error
	if p.Match != "" {
		out.match, err = regexp.Compile("^(?:" + p.Match + ")$")
		if c.orWrong(path, err) && out.match.NumSubexp() < 1 {
			c.wrong(path, "match %q has no group: put the value in parentheses", p.Match)
		}
	}
	scale, known := unitScales[p.Unit]
	if !known {
		c.wrong(path, "unit %q is none of percent, thousands, millions, billions, hundredths", p.Unit)
	}
	out.scale = scale
	out.layout, err = clean.Layout(p.Date)
	c.orWrong(path, err)
	out.zone, err = time.LoadLocation(cmp.Or(p.Zone, "UTC"))
	if err != nil {
		c.wrong(path, "%q is not a time zone: write it as Europe/London", p.Zone)
	}
	if !slices.Contains([]string{"", "outer", "document", "index"}, p.Of) {
		c.wrong(path, "of: %q is none of outer, document, index", p.Of)
	}
	return out
}
