package source

import (
	"cmp"
	"compress/gzip"
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"io"
	"maps"
	"mime"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"os"
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"soba.invalid/soba/internal/core/market"
	"soba.invalid/soba/internal/source/format"
)

// web calls a source over HTTP.
type web struct {
	client *http.Client
	base   *url.URL

	mu    sync.Mutex
	known map[string]validators // by what was asked
}

// validators let a source answer that nothing has changed (RFC 9110, 8.8).
type validators struct {
	tag, modified string
	of            string // the address, and the listings that were asked for with it: two of one issuer may share it
}

func (v validators) any() bool { return v.tag != "" || v.modified != "" }

var errPrivate = errors.New("lies in a private network")

// newWeb makes the client of a description: guarded, with its proxy and authorities.
func newWeb(d *Description) (*web, error) {
	base, err := url.Parse(strings.TrimSuffix(d.Access.Address, "/"))
	if err != nil {
		return nil, err
	}
	t := &http.Transport{MaxIdleConnsPerHost: d.Limits.AtOnce, IdleConnTimeout: time.Minute, ForceAttemptHTTP2: true, MaxResponseHeaderBytes: 64 << 10}
	allowed := map[string]bool{}
	if d.Access.Private {
		allowed[hostPort(base)] = true
	}
	if d.Access.Proxy != "" {
		proxy, err := url.Parse(d.Access.Proxy)
		if err != nil {
			return nil, err
		}
		t.Proxy = http.ProxyURL(proxy)
		allowed[hostPort(proxy)] = true
	}
	if d.Access.Authorities != "" {
		pem, err := os.ReadFile(d.Access.Authorities)
		if err != nil {
			return nil, fmt.Errorf("authorities of %s: %w", d.Name, err)
		}
		roots, err := x509.SystemCertPool()
		if err != nil {
			roots = x509.NewCertPool()
		}
		if !roots.AppendCertsFromPEM(pem) {
			return nil, fmt.Errorf("authorities of %s: %s holds no certificate", d.Name, d.Access.Authorities)
		}
		t.TLSClientConfig = &tls.Config{RootCAs: roots}
	}
	open := &net.Dialer{Timeout: 10 * time.Second}
	guarded := &net.Dialer{Timeout: 10 * time.Second, Control: func(_, address string, _ syscall.RawConn) error {
		if to, err := netip.ParseAddrPort(address); err != nil || !public(to.Addr().Unmap()) {
			return errPrivate
		}
		return nil
	}}
	t.DialContext = func(ctx context.Context, network, address string) (net.Conn, error) {
		if allowed[address] {
			return open.DialContext(ctx, network, address)
		}
		return guarded.DialContext(ctx, network, address)
	}
	return &web{base: base, known: map[string]validators{}, client: &http.Client{Transport: t, CheckRedirect: func(r *http.Request, via []*http.Request) error {
		if r.URL.Host != via[0].URL.Host || r.URL.Scheme != via[0].URL.Scheme || len(via) > 4 {
			return http.ErrUseLastResponse // it has moved; nobody has allowed the new address
		}
		return nil
	}}}, nil
}

func hostPort(u *url.URL) string {
	return net.JoinHostPort(u.Hostname(), cmp.Or(u.Port(), map[string]string{"http": "80", "https": "443"}[u.Scheme]))
}

// sharedSpace is what carriers use behind their routers (RFC 6598).
var sharedSpace = netip.MustParsePrefix("100.64.0.0/10")

func public(a netip.Addr) bool {
	return a.IsGlobalUnicast() && !a.IsPrivate() && !a.IsLoopback() && !sharedSpace.Contains(a)
}

// target is the address of a page, without the key.
func (w *web) target(c *Call, a ask) (*url.URL, error) {
	if a.link != "" {
		u, err := w.base.Parse(a.link)
		if err != nil {
			return nil, &Fault{Kind: Malformed, Detail: fmt.Sprintf("the link to the next page, %q, is no address", a.link)}
		}
		if u.Host != w.base.Host || u.Scheme != w.base.Scheme {
			return nil, &Fault{Kind: Forbidden, Detail: fmt.Sprintf("the link to the next page leads to %s", u.Host)}
		}
		return u, nil
	}
	u := *w.base
	// What is replaced may hold a slash, which must not become one of the path.
	raw := pathEscaped(c.Path, a)
	path, err := url.PathUnescape(raw)
	if err != nil {
		return nil, &Fault{Kind: Refused, Detail: err.Error()}
	}
	u.Path, u.RawPath = w.base.Path+path, w.base.EscapedPath()+raw
	query := url.Values{}
	for name, text := range c.Query {
		query.Set(name, a.replace.Replace(text))
	}
	for name, text := range a.extra {
		query.Set(name, text)
	}
	u.RawQuery = query.Encode()
	return &u, nil
}

func pathEscaped(path string, a ask) string {
	var b strings.Builder
	at := 0
	for _, m := range placeholder.FindAllStringIndex(path, -1) {
		b.WriteString(path[at:m[0]] + url.PathEscape(a.replace.Replace(path[m[0]:m[1]])))
		at = m[1]
	}
	b.WriteString(path[at:])
	return b.String()
}

func (w *web) open(ctx context.Context, s *Source, c *Call, a ask) (*document, *Page, error) {
	page := &Page{Started: time.Now(), UnitsLeft: -1}
	fail := func(err error) (*document, *Page, error) {
		page.Took = time.Since(page.Started)
		return nil, page, err
	}
	u, err := w.target(c, a)
	if err != nil {
		return fail(err)
	}
	page.Address = u.String()
	ctx, cancel := context.WithTimeout(ctx, s.Limits.Timeout)
	request, err := http.NewRequestWithContext(ctx, http.MethodGet, w.keyed(s, u), nil)
	if err != nil {
		cancel()
		return fail(&Fault{Kind: Refused, Detail: err.Error()})
	}
	asked := page.Address + " " + a.about
	w.dress(request, s, asked)
	response, err := w.client.Do(request)
	if err != nil {
		f := w.broken(ctx, s, err)
		cancel()
		return fail(f)
	}
	page.Status = response.StatusCode
	if s.Replies.UnitsSpent != "" {
		page.Units, _ = strconv.Atoi(response.Header.Get(s.Replies.UnitsSpent))
	} else if response.StatusCode == http.StatusOK {
		page.Units = a.units
	}
	if left, err := strconv.Atoi(response.Header.Get(s.Replies.UnitsLeft)); err == nil && s.Replies.UnitsLeft != "" {
		page.UnitsLeft = left
	}
	doc := newDocument(response.Body, int64(s.Limits.LargestMiB)<<20)
	doc.contentType, doc.header, doc.base = response.Header.Get("Content-Type"), response.Header.Get, page.Address
	doc.close = func() { response.Body.Close(); cancel() }
	doc.began = page.Started
	page.validators = validators{response.Header.Get("ETag"), response.Header.Get("Last-Modified"), asked}
	doc.asFault = func(err error) error { return w.broken(ctx, s, err) }
	switch {
	case response.StatusCode == http.StatusNotModified:
		doc.same = true
	case response.StatusCode == http.StatusNoContent:
		doc.none = true
	case response.StatusCode != http.StatusOK:
		f := w.refusal(s, c, response, doc)
		doc.finish(page)
		return nil, page, f
	default:
		if err := expected(a.kind, doc.contentType); err != nil {
			io.CopyN(io.Discard, doc, evidence) //nolint:errcheck // as much as comes
			doc.finish(page)
			return nil, page, &Fault{Kind: Malformed, Status: response.StatusCode, Detail: err.Error() + " (it begins " + quoted(page.Beginning) + ")"}
		}
		return doc, page, nil
	}
	doc.finish(page)
	return doc, page, nil
}

// keyed is an address with the key in it, where that is its place. It is never
// logged.
func (w *web) keyed(s *Source, u *url.URL) string {
	k := s.Access.Key
	if k == nil || k.In != "query" || s.key == "" {
		return u.String()
	}
	secret := *u
	query := secret.Query()
	query.Set(k.Name, s.key)
	secret.RawQuery = query.Encode()
	return secret.String()
}

func (w *web) dress(r *http.Request, s *Source, asked string) {
	r.Header.Set("User-Agent", "soba")
	for name, text := range s.Access.Headers {
		r.Header.Set(name, text)
	}
	if k := s.Access.Key; k != nil && s.key != "" {
		switch k.In {
		case "header":
			r.Header.Set(k.Name, s.key)
		case "bearer":
			r.Header.Set("Authorization", "Bearer "+s.key)
		case "basic":
			r.SetBasicAuth(k.Name, s.key)
		}
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	if v, there := w.known[asked]; there {
		if v.tag != "" {
			r.Header.Set("If-None-Match", v.tag)
		}
		if v.modified != "" {
			r.Header.Set("If-Modified-Since", v.modified)
		}
	}
}

// Remember lets the source answer next time that nothing has changed. It is
// called once the answer is stored.
func (s *Source) Remember(a *Answer) {
	w, overHTTP := s.via.(*web)
	if !overHTTP || len(a.Pages) != 1 && !a.indexed || !a.Pages[0].validators.any() {
		return
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	w.known[a.Pages[0].validators.of] = a.Pages[0].validators
}

// Forget makes the next answers come whole, whatever has been remembered.
func (s *Source) Forget() {
	if w, overHTTP := s.via.(*web); overHTTP {
		w.mu.Lock()
		defer w.mu.Unlock()
		clear(w.known)
	}
}

// refusal tells apart why a source does not answer with data.
func (w *web) refusal(s *Source, c *Call, r *http.Response, doc *document) *Fault {
	f := &Fault{Kind: Refused, Status: r.StatusCode, RetryAfter: retryAfter(r.Header.Get("Retry-After"))}
	switch {
	case r.StatusCode == http.StatusUnauthorized:
		f.Kind = KeyRefused
	case r.StatusCode == http.StatusPaymentRequired:
		f.Kind = AllowanceGone
	case r.StatusCode == http.StatusForbidden:
		f.Kind = PlanLacks
	case r.StatusCode == http.StatusNotFound, r.StatusCode == http.StatusGone:
		f.Kind = Moved
	case r.StatusCode == http.StatusTooManyRequests:
		f.Kind = Throttled
	case r.StatusCode >= 500:
		f.Kind = ServerFailed
	case r.StatusCode >= 300 && r.StatusCode < 400:
		f.Kind, f.Detail = Moved, "it redirects to "+shownTarget(r)
		return f
	}
	if word := s.Replies.Means[strconv.Itoa(r.StatusCode)]; word != "" {
		f.Kind = faultWords[word]
	}
	root, err := format.Read(io.LimitReader(doc, evidence), "", &format.Options{Kind: format.JSON}, nil, true, format.Limits{Depth: deepest}, nil)
	if err != nil {
		io.CopyN(io.Discard, doc, evidence) //nolint:errcheck // as much as comes
		f.Detail = excerpt(doc.begin)
		return f
	}
	explain(f, s, c, root)
	f.Detail = cmp.Or(f.Detail, excerpt(doc.begin))
	return f
}

// explain takes the source's own words and the symbols it names over into a fault.
func explain(f *Fault, s *Source, c *Call, root format.Row) {
	if c.compiled.message != nil {
		f.Detail, _ = root.At(c.compiled.message)
	}
	if c.compiled.culprits != nil {
		whole, _ := format.Compile(format.JSON, "$")
		for row := range root.Within(c.compiled.culprits) {
			text, _ := row.At(whole)
			if symbol, ok := s.Symbols.Read(text); ok {
				f.Culprits = append(f.Culprits, symbol)
			}
		}
	}
}

// shownTarget is where a redirect leads, without anything that could be secret.
func shownTarget(r *http.Response) string {
	u, err := r.Location()
	if err != nil {
		return "nowhere"
	}
	return u.Scheme + "://" + u.Host + u.Path
}

// broken says which fault a failed exchange is. Errors of the client hold the
// address, which may hold the key, so they are unwrapped first.
func (w *web) broken(ctx context.Context, s *Source, err error) error {
	var timeout net.Error
	var asURL *url.Error
	if errors.As(err, &asURL) {
		err = asURL.Err
	}
	switch {
	case errors.Is(ctx.Err(), context.DeadlineExceeded), errors.As(err, &timeout) && timeout.Timeout():
		return &Fault{Kind: TimedOut, Detail: "no whole answer within " + s.Limits.Timeout.String()}
	case ctx.Err() != nil:
		return ctx.Err()
	case errors.Is(err, errPrivate):
		return &Fault{Kind: Forbidden, Detail: w.base.Host + " " + errPrivate.Error()}
	case errors.Is(err, io.ErrUnexpectedEOF):
		return &Fault{Kind: Truncated, Detail: "the connection closed before the answer was whole"}
	case errors.Is(err, gzip.ErrHeader), errors.Is(err, gzip.ErrChecksum):
		return &Fault{Kind: Malformed, Detail: "the compressed answer is damaged: " + err.Error()}
	}
	return &Fault{Kind: Unreachable, Detail: err.Error()}
}

// media are the types under which formats are sent.
var media = map[format.Kind][]string{
	format.JSON: {"application/json"}, format.Lines: {"application/x-ndjson", "application/jsonl", "application/jsonlines"},
	format.CSV: {"text/csv"}, format.TSV: {"text/tab-separated-values"}, format.HTML: {"text/html", "application/xhtml+xml"},
	format.XML: {"application/xml", "text/xml"}, format.XBRL: {"application/xbrl-instance+xml", "application/xbrl-instance+json", "application/xml", "text/xml", "application/json"}, format.XLSX: {"application/vnd.openxmlformats-officedocument.spreadsheetml.sheet"},
}

// expected checks that an answer does not say of itself that it is something else.
func expected(kind format.Kind, contentType string) error {
	is, parameters, err := mime.ParseMediaType(contentType)
	if err != nil || slices.Contains(media[kind], is) || kind == format.CSV && strings.HasSuffix(is, "+csv") || kind == format.CSV && parameters["version"] != "" {
		return nil
	}
	for _, other := range slices.Sorted(maps.Keys(media)) {
		if other != kind && slices.Contains(media[other], is) && !(kind == format.Lines && other == format.JSON) && !(kind == format.TSV && other == format.CSV) {
			return fmt.Errorf("it came as %s instead of %s", is, media[kind][0])
		}
	}
	return nil
}

// retryAfter reads the header in either of its forms (RFC 9110, 10.2.3).
func retryAfter(text string) time.Duration {
	if seconds, err := strconv.Atoi(text); err == nil {
		return time.Duration(seconds) * time.Second
	}
	if at, err := http.ParseTime(text); err == nil {
		return max(0, time.Until(at))
	}
	return 0
}

func tooLarge(limit int64) string { return fmt.Sprintf("more than %d MiB", limit>>20) }

// next says how the page after this one is asked for; false when it was the last.
func (c *Call) next(doc *document, root format.Row, now ask, pages, records int) (ask, bool, error) {
	if doc.more > 0 {
		now.link = strconv.Itoa(pages)
		return now, true, nil
	}
	p := c.Paging
	if p == nil || root == nil {
		return now, false, nil
	}
	at := func(l *format.Locator) string {
		if l == nil {
			return ""
		}
		text, _ := root.At(l)
		return text
	}
	now.extra = maps.Clone(now.extra)
	if now.extra == nil {
		now.extra = map[string]string{}
	}
	switch p.By {
	case "cursor":
		cursor := at(c.compiled.next)
		if cursor == "" {
			return now, false, nil
		}
		if now.extra[p.Parameter] == cursor {
			return now, false, &Fault{Kind: Malformed, Detail: fmt.Sprintf("the cursor %q leads back to the page it stands on", shortened(cursor))}
		}
		now.extra[p.Parameter] = cursor
	case "page":
		if last, err := strconv.Atoi(at(c.compiled.pages)); err == nil && pages >= last || records == 0 {
			return now, false, nil
		}
		now.extra[p.Parameter] = strconv.Itoa(pages + 1)
	case "link":
		link := at(c.compiled.next)
		if c.compiled.next == nil {
			link = linked(doc.header("Link"))
		}
		if link == "" {
			return now, false, nil
		}
		base, err := url.Parse(doc.base)
		if err != nil {
			return now, false, nil
		}
		to, err := base.Parse(link)
		if err != nil {
			return now, false, &Fault{Kind: Malformed, Detail: fmt.Sprintf("the link to the next page, %q, is no address", link)}
		}
		if now.link == to.String() {
			return now, false, &Fault{Kind: Malformed, Detail: fmt.Sprintf("the link to the next page, %q, leads back to the page it stands on", link)}
		}
		now.link = to.String()
	}
	if pages >= p.Most {
		return now, false, &Fault{Kind: TooLarge, Detail: fmt.Sprintf("more than %d pages", p.Most)}
	}
	return now, true, nil
}

// linked finds the target of rel="next" in a Link header (RFC 8288).
func linked(header string) string {
	for _, link := range strings.Split(header, ",") {
		target, parameters, _ := strings.Cut(link, ";")
		target = strings.TrimSpace(target)
		if strings.Contains(strings.ReplaceAll(parameters, `"`, ""), "rel=next") && strings.HasPrefix(target, "<") && strings.HasSuffix(target, ">") {
			return target[1 : len(target)-1]
		}
	}
	return ""
}

// Length is how many characters a symbol takes in the address of a request.
func (s *Source) Length(x market.Symbol) int {
	text, _ := s.Symbols.Symbol(x, "XX0000000000")
	return len(url.QueryEscape(text))
}
