package source

import (
	"bytes"
	"compress/gzip"
	"context"
	"crypto/sha256"
	"errors"
	"hash"
	"io"
	"slices"
	"strings"
	"time"

	"soba.invalid/soba/internal/core/catalogue"
	"soba.invalid/soba/internal/core/cell"
	"soba.invalid/soba/internal/core/market"
	"soba.invalid/soba/internal/core/period"
	"soba.invalid/soba/internal/core/plan"
	"soba.invalid/soba/internal/source/clean"
	"soba.invalid/soba/internal/source/format"
)

// deepest is how deep a document may be nested.
const deepest = 64

// Fetch carries out one planned request. Before each page but the first it waits
// for its turn. The answer is never nil: after a fault, which is a *[Fault], it
// still tells of the exchanges that were had.
func (s *Source) Fetch(ctx context.Context, q plan.Request, turn func(context.Context) error) (*Answer, error) {
	a, _, err := s.fetch(ctx, q, turn, false)
	return a, err
}

func (s *Source) fetch(ctx context.Context, q plan.Request, turn func(context.Context) error, sampling bool) (*Answer, []Sample, error) {
	c := s.call(q.Call)
	a := &Answer{}
	d := newDecoder(s, c, q, a)
	d.sampling = sampling
	read := s.pages
	if _, again := s.via.(*recorded); c.compiled.index != nil && !again { // what is recorded is one of the documents
		read = s.filings
	}
	err := read(ctx, c, a, d, ask{replace: s.replacements(c, q), about: aboutOf(q), units: q.Units, kind: c.Format.Kind}, turn)
	var f *Fault
	switch {
	case c.Otherwise != "" && errors.As(err, &f) && f.Kind == UnknownInside && len(q.Symbols()) == 1:
		a.drop() // that it is not known here is an answer where there is another way to ask
		for i := range q.Needs {
			a.Failures = append(a.Failures, Failure{q.Needs[i].Symbol, q.Needs[i].Dataset, cell.NotCovered, f.Detail})
		}
		return a, d.samples, nil
	case err == nil && !a.Same:
		err = d.conclude()
	}
	if err != nil {
		a.drop()
	}
	return a, d.samples, err
}

// pages reads an answer page by page.
func (s *Source) pages(ctx context.Context, c *Call, a *Answer, d *decoder, next ask, turn func(context.Context) error) error {
	for {
		var doc *document
		var root format.Row
		err := s.page(ctx, c, a, next, func(came *document) (err error) {
			doc = came
			root, err = d.read(doc, len(a.Pages))
			return err
		})
		if err != nil || a.Same {
			return err
		}
		var more bool
		if next, more, err = c.next(doc, root, next, len(a.Pages), d.records); err != nil || !more {
			return err
		}
		next.units = 0 // the first page has been charged for all
		if err := turn(ctx); err != nil {
			return err
		}
	}
}

// page asks for one document, hands it over to be read, and logs the exchange.
func (s *Source) page(ctx context.Context, c *Call, a *Answer, with ask, read func(*document) error) error {
	doc, page, err := s.via.open(ctx, s, c, with)
	if err != nil {
		a.Pages = append(a.Pages, *page)
		return err
	}
	if doc.same {
		a.Pages, a.Same = append(a.Pages, *page), true
		return nil
	}
	if err = read(doc); err != nil && doc.fault == nil {
		io.CopyN(io.Discard, doc, evidence) //nolint:errcheck // as much as comes, for who looks at the stored response
	}
	doc.finish(page)
	a.Pages = append(a.Pages, *page)
	if err == nil {
		err = doc.fault // a transfer that broke off after the document's end
	}
	if err != nil {
		return s.faultOf(doc, page, err)
	}
	return nil
}

// Otherwise are the requests to fall back on for the listings that an answered
// request has nothing of.
func (s *Source) Otherwise(q plan.Request, a *Answer) []plan.Request {
	other := s.call(s.call(q.Call).Otherwise)
	if other == nil {
		return nil
	}
	var left []plan.Need
	for _, f := range a.Failures {
		if f.Reason != cell.NotCovered && f.Reason != cell.NotReported {
			continue
		}
		for i := range q.Needs {
			if n := q.Needs[i]; n.Symbol == f.Symbol && n.Dataset == f.Dataset && slices.Contains(other.Serves, n.Dataset) {
				left = append(left, n)
			}
		}
	}
	var more []plan.Request
	for part := range slices.Chunk(left, other.Batch.Symbols) {
		again := q
		again.Call, again.Needs, again.Units = other.Name, part, other.Cost.Request+other.Cost.Symbol*len(part)
		more = append(more, again)
	}
	return more
}

// faultOf says which fault an error of reading a document is.
func (s *Source) faultOf(doc *document, page *Page, err error) error {
	var f *Fault
	switch {
	case errors.As(err, &f), errors.As(doc.fault, &f):
		if f.Status == 0 {
			f.Status = page.Status
		}
		return f
	case doc.fault != nil:
		return doc.fault
	case errors.Is(err, format.ErrTooMany):
		return &Fault{Kind: TooLarge, Status: page.Status, Detail: err.Error()}
	case errors.Is(err, context.Canceled), errors.Is(err, context.DeadlineExceeded):
		return err
	}
	return &Fault{Kind: Malformed, Status: page.Status, Detail: err.Error() + " (it begins " + quoted(page.Beginning) + ")"}
}

func quoted(s string) string {
	if s == "" {
		return "with nothing"
	}
	return "“" + s + "”"
}

// ask is what one page is asked with.
type ask struct {
	replace *strings.Replacer // of the names in path and query
	extra   map[string]string // parameters besides those of the call
	link    string            // instead of path and query
	kind    format.Kind       // that the answer should come in
	about   string            // the listings that are asked for
	units   int               // what it costs, of a source that does not say
}

func aboutOf(q plan.Request) string {
	var all []string
	for _, s := range q.Symbols() {
		all = append(all, s.String())
	}
	return strings.Join(all, ",")
}

// replacements are what stands for the names in a call's path and query.
func (s *Source) replacements(c *Call, q plan.Request) *strings.Replacer {
	var theirs []string
	if c.compiled.takes == plan.Symbols && q.Needs[0].Dataset != catalogue.Listings {
		seen := map[market.Symbol]bool{}
		for i := range q.Needs {
			n := &q.Needs[i]
			if text, ok := s.Symbols.Symbol(n.Symbol, n.ISIN); ok && !seen[n.Symbol] {
				theirs = append(theirs, text)
			}
			seen[n.Symbol] = true
		}
	}
	exchange := q.Exchange
	if q.Needs[0].Dataset == catalogue.Listings {
		exchange = q.Needs[0].Symbol.Exchange
	}
	pairs := []string{
		"{symbols}", strings.Join(theirs, c.Batch.Separator), "{exchange}", s.Symbols.Exchange(exchange),
		"{from}", writeDate(q.From, c.compiled.dates), "{to}", writeDate(q.To, c.compiled.dates), "{day}", writeDate(q.From, c.compiled.dates),
	}
	if len(theirs) > 0 {
		pairs = append(pairs, "{symbol}", theirs[0])
	}
	return strings.NewReplacer(pairs...)
}

func writeDate(d period.Date, layout string) string {
	switch {
	case d == 0:
		return ""
	case layout == "unix":
		return clean.WriteUnix(d.Time())
	case layout == "" || layout == "iso":
		layout = time.DateOnly
	}
	return d.Time().Format(layout)
}

// document is an answer on its way in: it is read once, kept compressed as it is
// read, and never held whole.
type document struct {
	io.Reader
	contentType string
	header      func(name string) string
	same        bool // nothing has changed since the last time
	none        bool // there is nothing at all
	more        int  // documents of the same call that are left

	base    string // address that links are relative to
	began   time.Time
	close   func()
	packed  bytes.Buffer
	zip     *gzip.Writer
	sum     hash.Hash
	size    int64
	begin   []byte
	limit   int64
	in      io.Reader
	fault   error // of the transfer
	asFault func(error) error
}

const (
	beginning = 400      // bytes of an answer that its log entry quotes
	evidence  = 64 << 10 // bytes beyond an error that are kept
)

func newDocument(in io.Reader, limit int64) *document {
	d := &document{in: in, limit: limit, sum: sha256.New(), began: time.Now(), header: func(string) string { return "" }, close: func() {}}
	d.zip, _ = gzip.NewWriterLevel(&d.packed, gzip.BestSpeed) // the level is valid
	d.Reader = readerFunc(d.read)
	d.asFault = func(err error) error { return &Fault{Kind: Truncated, Detail: err.Error()} }
	return d
}

type readerFunc func([]byte) (int, error)

func (f readerFunc) Read(p []byte) (int, error) { return f(p) }

func (d *document) read(p []byte) (int, error) {
	if d.fault != nil {
		return 0, d.fault
	}
	n, err := d.in.Read(p)
	d.size += int64(n)
	if d.size > d.limit {
		d.fault = &Fault{Kind: TooLarge, Detail: tooLarge(d.limit)}
		return 0, d.fault
	}
	d.zip.Write(p[:n]) //nolint:errcheck // a buffer takes everything
	d.sum.Write(p[:n])
	if len(d.begin) < beginning {
		d.begin = append(d.begin, p[:min(n, beginning-len(d.begin))]...)
	}
	if err != nil && !errors.Is(err, io.EOF) {
		d.fault = d.asFault(err)
		return n, d.fault
	}
	return n, err
}

// finish closes the document and puts what was read of it into the page.
func (d *document) finish(p *Page) {
	d.close()
	d.zip.Close() //nolint:errcheck // a buffer takes everything
	p.Took, p.ContentType = time.Since(d.began), d.contentType
	p.Size, p.Beginning = d.size, excerpt(d.begin)
	if d.size > 0 {
		p.Hash, p.Packed = d.sum.Sum(nil), d.packed.Bytes()
	}
}

// excerpt is the beginning of an answer on one line, for an error message.
func excerpt(body []byte) string {
	text := strings.Join(strings.Fields(strings.ToValidUTF8(string(body), "·")), " ")
	if r := []rune(text); len(r) > 160 {
		text = string(r[:160]) + "…"
	}
	return text
}
