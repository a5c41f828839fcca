package source

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"github.com/goccy/go-yaml"
	"github.com/santhosh-tekuri/jsonschema/v6"

	"soba.invalid/soba/internal/core/market"
	"soba.invalid/soba/sources"
)

const whole = `name: heron
access: {address: "https://heron.invalid", key: {in: header, name: X-Key}}
calls:
  - serves: [quotes]
    path: /q/{symbol}
    format: {kind: json}
    parts:
      - fields: {last: $.last}
`

func TestDescriptionsAreReadStrictly(t *testing.T) {
	if _, err := Read("heron.yaml", []byte(whole)); err != nil {
		t.Fatal(err)
	}
	with := func(old, new string) string {
		if !strings.Contains(whole, old) {
			t.Fatalf("%q is not in the description", old)
		}
		return strings.Replace(whole, old, new, 1)
	}
	for _, c := range []struct{ file, says string }{
		{with("serves:", "servs:"), `heron.yaml:4:5: there is no key "servs"; the nearest is "serves"`},
		{with("{last: $.last}", "{last: {at: $.last, unti: percent}}"), `there is no key "unti"; the nearest is "unit"`},
		{with("{last: $.last}", "{lsat: $.last}"), `heron.yaml:8:24: quotes have no field "lsat"; the nearest is "last"`},
		{with("[quotes]", "[qoutes]"), `there is no dataset "qoutes"`},
		{with("kind: json", "kind: jsn"), `kind "jsn" is none of`},
		{with("$.last}", "\"$.[\"}"), "is not a JSONPath (RFC 9535)"},
		{with("/q/{symbol}", "/q/{sybmol}"), "{sybmol} stands for nothing in this call: there are {symbols}, {symbol}"},
		{with("in: header", "in: heder"), "is none of header, query, bearer, basic"},
		{with("https://heron.invalid", "heron.invalid"), "is not an http or https address"},
		{with("https://heron.invalid", "https://me:pw@heron.invalid"), "secrets belong into the environment"},
		{with("name: heron", "name: Heron!"), "write it in lower-case letters"},
		{with("    format", "    batch: {symbols: 5}\n    format"), "{symbol} stands for one symbol"},
		{with("    format", "    takes: exchanges\n    format"), "is none of symbols, exchange, day"},
		{with("    format", "    otherwise: other\n    format"), `there is no other call named "other"`},
		{with("    format", "    paging: {by: cursor}\n    format"), "say where the next cursor stands"},
		{with("calls:", "limits: {per_second: fast}\ncalls:"), "heron.yaml:3:"},
		{with("calls:", "symbols: {write: \"{tick}\"}\ncalls:"), "{tick} stands for nothing here"},
		{with("calls:", "clean: {footnotes: \"(\"}\ncalls:"), "footnotes"},
		{with("calls:", "replies: {means: {418: teapot}}\ncalls:"), `418 means "teapot"`},
		{with("$.last", "{at: $.last, value: 5}"), "say either at or value"},
		{with("$.last", "{at: $.last, match: '[0-9]+'}"), "has no group"},
		{"name: heron\n", "give either an address or a folder"},
		{"a: [", "heron.yaml:1"},
		{"", "heron.yaml"},
	} {
		d, err := Read("heron.yaml", []byte(c.file))
		var problems Problems
		if !errors.As(err, &problems) || !strings.Contains(err.Error(), c.says) {
			t.Errorf("%s\nis read as %+v, %v\nwant %s", c.file, d, err, c.says)
		}
	}
}

func TestDescriptionsOfFilingsAreReadStrictly(t *testing.T) {
	with := func(old, new string) string {
		if !strings.Contains(register, old) {
			t.Fatalf("%q is not in the description", old)
		}
		return strings.Replace(register, old, new, 1)
	}
	for _, c := range []struct{ file, says string }{
		{with("format: {kind: json}", "format: {kind: xlsx}"), `an index is in json, xml or csv, not in "xlsx"`},
		{with("link: at, ", ""), "say where the link to a document stands"},
		{with("{kind: json}, rows:", "{kind: csv}, rows:"), "rows are for JSON and XML"},
		{with("link: at", `link: "$.["`), "is not a JSONPath (RFC 9535)"},
		{with("[statements]", "[quotes]"), "an XBRL document holds statements, not quotes"},
		{with("income.research", "income.reserch"), `statements have no field "income.reserch"; the nearest is "income.research"`},
		{with("of: index", "of: indx"), "is none of outer, document, index"},
		{with("kind: xbrl", "kind: xbrI"), `kind "xbrI" is none of`},
		{strings.Replace(whole, "$.last", "{at: last, of: index}", 1), "of: index is for calls that say documents"},
	} {
		if d, err := Read("register.yaml", []byte(c.file)); err == nil || !strings.Contains(err.Error(), c.says) {
			t.Errorf("%s\nis read as %+v, %v\nwant %s", c.file, d, err, c.says)
		}
	}
}

func TestShippedDescriptionsAreRight(t *testing.T) {
	all, err := ReadAll(sources.Files)
	if err != nil {
		t.Fatal(err)
	}
	if len(all) < 4 {
		t.Errorf("%d descriptions ship", len(all))
	}
	if _, err := ReadAll(fstest.MapFS{"a.yaml": {Data: []byte(whole)}, "b.yaml": {Data: []byte(whole)}, "c.yaml": {Data: []byte("nme: x")}}); err == nil || !strings.Contains(err.Error(), `b.yaml: there is another source named "heron"`) || !strings.Contains(err.Error(), "c.yaml:1:1") {
		t.Errorf("got %v", err)
	}
}

// The published schema accepts what the reader accepts, and refuses a misspelling.
func TestTheSchemaIsThatOfTheReader(t *testing.T) {
	document, err := jsonschema.UnmarshalJSON(strings.NewReader(string(Schema())))
	if err != nil {
		t.Fatal(err)
	}
	c := jsonschema.NewCompiler()
	if err := c.AddResource("source.json", document); err != nil {
		t.Fatal(err)
	}
	schema, err := c.Compile("source.json")
	if err != nil {
		t.Fatal(err)
	}
	check := func(text []byte) error {
		asJSON, err := yaml.YAMLToJSON(text)
		if err != nil {
			t.Fatal(err)
		}
		v, err := jsonschema.UnmarshalJSON(strings.NewReader(string(asJSON)))
		if err != nil {
			t.Fatal(err)
		}
		return schema.Validate(v)
	}
	names, _ := fs.Glob(sources.Files, "*.yaml")
	for _, name := range names {
		if name == ExchangesFile {
			continue
		}
		text, _ := fs.ReadFile(sources.Files, name)
		if err := check(text); err != nil {
			t.Errorf("%s: %v", name, err)
		}
	}
	for _, change := range []string{"serves:|servs:", "[quotes]|[qoutes]", "kind: json|kind: jsn", "in: header|in: heder"} {
		old, new, _ := strings.Cut(change, "|")
		if check([]byte(strings.Replace(whole, old, new, 1))) == nil {
			t.Errorf("the schema accepts %s", new)
		}
	}
}

func TestSymbolsAreTranslatedThereAndBack(t *testing.T) {
	for _, c := range []struct {
		s            Symbols
		ours, theirs string // theirs "": not covered
	}{
		{Symbols{}, "CHAN.A.XPLR", "CHAN.A.XPLR"},
		{Symbols{Write: "{exchange}:{ticker}", Pair: "FX:{base}{quote}"}, "S&T.XNMK", "XNMK:S&T"},
		{Symbols{Write: "{exchange}:{ticker}", Pair: "FX:{base}{quote}"}, "EUR/USD", "FX:EURUSD"},
		{Symbols{Write: "{ticker}-{exchange}", Exchanges: map[string]string{"XCVH": "V", "XNMK": "N"}}, "KELP.XCVH", "KELP-V"},
		{Symbols{Write: "{ticker}-{exchange}", Exchanges: map[string]string{"XCVH": "V", "XNMK": "N"}}, "COLD.XTSG", ""},
		{Symbols{Write: "{ticker}"}, "EUR/USD", ""},
		{Symbols{Pair: "{quote}", PairBase: "EUR"}, "EUR/USD", "USD"},
		{Symbols{Pair: "{quote}", PairBase: "EUR"}, "USD/JPY", ""},
		{Symbols{Pair: "{quote}", PairBase: "EUR"}, "KELP.XCVH", ""},
		{Symbols{Write: "{code}", Codes: map[string]string{"KELP.XCVH": "000451", "EUR/USD": "7"}}, "KELP.XCVH", "000451"},
		{Symbols{Write: "{code}", Codes: map[string]string{"KELP.XCVH": "000451", "EUR/USD": "7"}}, "EUR/USD", "7"},
		{Symbols{Write: "{code}", Codes: map[string]string{"KELP.XCVH": "000451"}}, "FERY.XCVH", ""},
	} {
		if c.s.Write == "" && c.s.Pair == "" {
			c.s.Write = "{ticker}.{exchange}" // as the reader fills in
		}
		x, err := market.ParseSymbol(c.ours)
		if err != nil {
			t.Fatal(err)
		}
		theirs, ok := c.s.Symbol(x, "")
		if theirs != c.theirs || ok != (c.theirs != "") {
			t.Errorf("%s is written %q, want %q", c.ours, theirs, c.theirs)
		}
		if back, ok := c.s.Read(theirs); ok != (c.theirs != "") || ok && back != x {
			t.Errorf("%q is read as %s, want %s", theirs, back, c.ours)
		}
	}
	byISIN := Symbols{Write: "{isin}"}
	if text, ok := byISIN.Symbol(market.Symbol{Ticker: "KELP", Exchange: "XCVH"}, "XA0000000001"); !ok || text != "XA0000000001" {
		t.Errorf("by ISIN: %q", text)
	}
	if _, ok := byISIN.Symbol(market.Symbol{Ticker: "KELP", Exchange: "XCVH"}, ""); ok {
		t.Error("a listing without an ISIN is written by it")
	}
}

func TestTheDayOfTheAllowance(t *testing.T) {
	l := Limits{DayStarts: "05:00", DayZone: "Asia/Tokyo"} // 20:00 UTC of the day before
	for text, want := range map[string]string{"2026-03-06T12:00:00Z": "2026-03-05T20:00:00Z", "2026-03-06T20:00:00Z": "2026-03-06T20:00:00Z"} {
		at, _ := time.Parse(time.RFC3339, text)
		starts, ends := l.DayOf(at)
		if starts.UTC().Format(time.RFC3339) != want || ends.Sub(starts) != 24*time.Hour {
			t.Errorf("at %s the day began at %s", text, starts.UTC())
		}
	}
}

func TestSecretsComeFromFileAndEnvironment(t *testing.T) {
	path := filepath.Join(t.TempDir(), "secrets.yaml")
	if err := os.WriteFile(path, []byte("gannet: {key: from-file, address: http://a}\nblue-heron: {key: h}\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	secrets, err := ReadSecrets(path, func(name string) string {
		return map[string]string{"SOBA_GANNET_KEY": "from-environment", "SOBA_BLUE_HERON_ADDRESS": "http://b"}[name]
	})
	if err != nil {
		t.Fatal(err)
	}
	if got := secrets("gannet"); got != (Secret{"from-environment", "http://a"}) {
		t.Errorf("got %+v", got)
	}
	if got := secrets("blue-heron"); got != (Secret{"h", "http://b"}) {
		t.Errorf("got %+v", got)
	}
	if err := os.WriteFile(path, []byte("gannet: {kye: topsecret}"), 0o600); err != nil {
		t.Fatal(err)
	}
	if _, err := ReadSecrets(path, os.Getenv); err == nil || strings.Contains(err.Error(), "topsecret") {
		t.Errorf("got %v", err)
	}
	if _, err := ReadSecrets(filepath.Join(t.TempDir(), "none"), os.Getenv); err != nil {
		t.Error(err)
	}
}
