package format

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"runtime"
	"strings"
	"testing"

	"github.com/xuri/excelize/v2"
)

var plenty = Limits{Rows: 1000, Depth: 64}

func at(t testing.TB, kind Kind, text string) *Locator {
	t.Helper()
	l, err := Compile(kind, text)
	if err != nil {
		t.Fatal(err)
	}
	return l
}

// picked reads a document and writes what stands at places of each record.
func picked(t testing.TB, doc string, o Options, s Selection, whole bool, places ...string) (string, error) {
	t.Helper()
	var out []string
	_, err := Read(strings.NewReader(doc), "", &o, []Selection{s}, whole, plenty, func(_ int, r Row) error {
		line := r.Place()
		for _, p := range places {
			text, nature := r.At(at(t, o.Kind, p))
			line += fmt.Sprintf(" %s:%d", text, nature)
		}
		out = append(out, line)
		return nil
	})
	return strings.Join(out, "; "), err
}

func TestTheSameRecordsInEveryFormat(t *testing.T) {
	workbook := excelize.NewFile()
	for i, row := range [][]any{{"Code", "Last", "Note"}, {"KELP", 31.42, "x"}, {"FERY", 7, nil}} {
		if err := workbook.SetSheetRow("Sheet1", fmt.Sprintf("A%d", i+1), &row); err != nil {
			t.Fatal(err)
		}
	}
	var xlsx bytes.Buffer
	if err := workbook.Write(&xlsx); err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		name, doc string
		o         Options
		s         Selection
		places    []string
		want      string
	}{
		{
			"JSON", `{"at": 5, "data": {"rows": [{"Code": "KELP", "Last": 31.420, "Note": "x"}, {"Code": "FERY", "Last": 7, "Note": null}]}}`,
			Options{Kind: JSON},
			Selection{Rows: at(t, JSON, "$.data.rows[*]")},
			[]string{"Code", "$.Last", "Note", "Nope"},
			"$.data.rows[0] KELP:2 31.420:3 x:2 :0; $.data.rows[1] FERY:2 7:3 :1 :0",
		},
		{
			"JSON by filter", `[{"Code": "KELP", "on": true}, {"Code": "SALT", "on": false}]`,
			Options{Kind: JSON},
			Selection{Rows: at(t, JSON, "$[?@.on == true]")},
			[]string{"Code", "on"},
			"$[0] KELP:2 true:4",
		},
		{
			"JSON Lines", "{\"Code\": \"KELP\"}\n{\"Code\": \"FERY\"}\n",
			Options{Kind: Lines},
			Selection{},
			[]string{"Code"},
			"line 1 KELP:2; line 2 FERY:2",
		},
		{
			"CSV", "\ufeffCode,Last ,Note\r\nKELP,31.42,\"a, b\"\r\nFERY,7\r\n",
			Options{Kind: CSV},
			Selection{},
			[]string{"Code", "Last", "#3", "Nope"},
			"line 2 KELP:2 31.42:2 a, b:2 :0; line 3 FERY:2 7:2 :0 :0",
		},
		{
			"CSV without header", "title\nKELP;31,42\n",
			Options{Kind: CSV, Delimiter: ";", NoHeader: true, Skip: 1},
			Selection{},
			[]string{"#2", "#1"},
			"line 2 31,42:2 KELP:2",
		},
		{
			"TSV", "Code\tNote\nKELP\t5\" pipe\n",
			Options{Kind: TSV},
			Selection{},
			[]string{"Note"},
			"line 2 5\" pipe:2",
		},
		{
			"XML", `<?xml version="1.0"?><d xmlns:q="urn:q"><rows><q:r code="KELP"><last>31.42</last></q:r><r code="FERY"><last/></r></rows></d>`,
			Options{Kind: XML},
			Selection{Rows: at(t, XML, "/d/rows/r")},
			[]string{"@code", "last", "nope"},
			"/d[1]/rows[1]/r[1] KELP:2 31.42:2 :0; /d[1]/rows[1]/r[2] FERY:2 :2 :0",
		},
		{
			"HTML by caption", `<table><tr><th>Code<th>x</table><table><caption> Last
				prices </caption><thead><tr><th>Code</th><th>Last</th></tr></thead><tr><td>KELP</td><td><b>31</b>.42</td></tr></table>`,
			Options{Kind: HTML},
			Selection{Table: Table{Caption: "last prices"}},
			[]string{"Code", "Last"},
			`table "Last prices", row 2 KELP:2 31.42:2`,
		},
		{
			"HTML by heading, with labels", `<div><h2>Facts</h2><p>of</p><div><table><tr><th>Item<th>FY2025<th>FY2024<tr><td>Sales<td>5<td>4<tr><td>Staff<td colspan=2>9</table></div></div>`,
			Options{Kind: HTML},
			Selection{Table: Table{Heading: "Facts", Labels: true}},
			[]string{"#header", "Sales", "Staff"},
			`table "Facts", column 2 FY2025:2 5:2 9:2; table "Facts", column 3 FY2024:2 4:2 9:2`,
		},
		{
			"HTML by heading, beside a table with a caption of its own", `<h2>Facts</h2><table><tr><th>A<tr><td>1</table><table><caption>More</caption><tr><th>A<tr><td>2</table>`,
			Options{Kind: HTML},
			Selection{Table: Table{Heading: "Facts"}},
			[]string{"A"},
			`table "Facts", row 2 1:2`,
		},
		{
			"HTML by header cells", `<table><tr><th>A<th>B</table><table><tr><th>B<th>C<tr><td>1<td>2</table>`,
			Options{Kind: HTML},
			Selection{Table: Table{Headers: []string{"C", "B"}}},
			[]string{"C"},
			`table "", row 2 2:2`,
		},
		{
			"XLSX", xlsx.String(),
			Options{Kind: XLSX},
			Selection{},
			[]string{"Code", "Last", "Note"},
			`sheet "Sheet1", row 2 KELP:2 31.42:2 x:2; sheet "Sheet1", row 3 FERY:2 7:2 :0`,
		},
	} {
		for _, whole := range []bool{false, true} {
			if got, err := picked(t, c.doc, c.o, c.s, whole, c.places...); err != nil || got != c.want {
				t.Errorf("%s:\n got %s, %v\nwant %s", c.name, got, err, c.want)
			}
		}
	}
}

func TestEncodings(t *testing.T) {
	latin := "Code,Name\nK,Mus\xe9e\n"
	if got, err := picked(t, latin, Options{Kind: CSV, Encoding: "windows-1252"}, Selection{}, false, "Name"); err != nil || !strings.Contains(got, "Musée") {
		t.Error(got, err)
	}
	for _, o := range []Options{{Kind: CSV}, {Kind: CSV, Encoding: "utf-8"}} {
		if got, err := picked(t, latin, o, Selection{}, false, "Name"); err == nil {
			t.Errorf("Latin text passes as UTF-8: %s", got)
		}
	}
	if _, err := picked(t, "{\"a\": \"\xff\"}", Options{Kind: JSON}, Selection{}, true, "a"); err == nil {
		t.Error("broken UTF-8 passes in JSON")
	}
	if _, err := picked(t, "a\n", Options{Kind: CSV, Encoding: "klingon"}, Selection{}, false, "a"); err == nil {
		t.Error("an unknown encoding passes")
	}
	got := ""
	_, err := Read(strings.NewReader("Name\nMus\xe9e\n"), "text/csv; charset=ISO-8859-1", &Options{Kind: CSV}, []Selection{{}}, false, plenty, func(_ int, r Row) error {
		got, _ = r.At(at(t, CSV, "Name"))
		return nil
	})
	if err != nil || got != "Musée" {
		t.Error(got, err)
	}
}

func TestWhatIsNotTheFormatIsAnError(t *testing.T) {
	rows := Selection{Rows: at(t, JSON, "$.rows[*]")}
	deep := strings.Repeat("[", 100_000)
	for _, c := range []struct {
		name, doc string
		o         Options
		s         Selection
	}{
		{"truncated JSON", `{"rows": [{"a": 1}, {"a"`, Options{Kind: JSON}, rows},
		{"two documents", `{"rows": []} {}`, Options{Kind: JSON}, rows},
		{"empty", ``, Options{Kind: JSON}, rows},
		{"HTML for JSON", `<html>`, Options{Kind: JSON}, rows},
		{"deep JSON", `{"rows": [` + deep, Options{Kind: JSON}, rows},
		{"deep JSON outside", `{"other": ` + deep, Options{Kind: JSON}, rows},
		{"deep XML", strings.Repeat("<a>", 100_000), Options{Kind: XML}, Selection{Rows: at(t, XML, "/a/b")}},
		{"an entity that grows", `<!DOCTYPE d [<!ENTITY a "aaaaaaaaaa"><!ENTITY b "&a;&a;&a;">]><d><r>&b;</r></d>`, Options{Kind: XML}, Selection{Rows: at(t, XML, "/d/r")}},
		{"no element", `hello`, Options{Kind: XML}, Selection{Rows: at(t, XML, "/d/r")}},
		{"a quote left open", "a,b\n\"x,1\n2,3", Options{Kind: CSV}, Selection{}},
		{"more fields than headers", "a,b\n1,2,3\n", Options{Kind: CSV}, Selection{}},
		{"no header", "", Options{Kind: CSV}, Selection{}},
		{"no such table", `<table><caption>Other</caption><tr><th>A</table>`, Options{Kind: HTML}, Selection{Table: Table{Caption: "Facts"}}},
		{"two such tables", `<table><tr><th>A</table><table><tr><th>A</table>`, Options{Kind: HTML}, Selection{Table: Table{Headers: []string{"A"}}}},
		{"no workbook", "PK\x03\x04rubbish", Options{Kind: XLSX}, Selection{}},
		{"too many", "a\n" + strings.Repeat("1\n", 1001), Options{Kind: CSV}, Selection{}},
		{"no such format", "a\n", Options{Kind: "parchment"}, Selection{}},
	} {
		if got, err := picked(t, c.doc, c.o, c.s, false); err == nil {
			t.Errorf("%s passes: %s", c.name, got)
		}
	}
	_, err := Read(strings.NewReader(`{"rows": [1, 2]}`), "", &Options{Kind: JSON}, []Selection{rows}, false, plenty, func(int, Row) error { return io.ErrClosedPipe })
	if !errors.Is(err, io.ErrClosedPipe) {
		t.Errorf("the taker's own error is lost: %v", err)
	}
	for kind, texts := range map[Kind][]string{JSON: {"", "$.[", "$.a[?"}, CSV: {"#0", "#x", ""}, XML: {"/", "a[1]", "a//b"}} {
		for _, text := range texts {
			if _, err := Compile(kind, text); err == nil {
				t.Errorf("%s: %q passes for a place", kind, text)
			}
		}
	}
}

// endless is a list of records without an end.
type endless struct{ started bool }

func (e *endless) Read(p []byte) (int, error) {
	if !e.started {
		e.started = true
		return copy(p, `{"rows": [`), nil
	}
	return copy(p, `{"a": [1, 2, 3, 4, 5, 6, 7, 8]},`), nil
}

// Records that are streamed are not kept: the memory in use does not grow with
// their number, and an endless document ends at the limit.
func TestStreamingKeepsNothing(t *testing.T) {
	rows := Selection{Rows: at(t, JSON, "$.rows[*]")}
	var before, during runtime.MemStats
	runtime.GC()
	runtime.ReadMemStats(&before)
	most, n := uint64(0), 0
	_, err := Read(&endless{}, "", &Options{Kind: JSON}, []Selection{rows}, false, Limits{Rows: 200_000, Depth: 9}, func(int, Row) error {
		if n++; n%50_000 == 0 {
			runtime.GC()
			runtime.ReadMemStats(&during)
			most = max(most, during.HeapAlloc)
		}
		return nil
	})
	if !errors.Is(err, ErrTooMany) || n != 200_000 {
		t.Errorf("%d records, %v", n, err)
	}
	if most > before.HeapAlloc+16<<20 {
		t.Errorf("%d MiB in use after %d MiB", most>>20, before.HeapAlloc>>20)
	}
}

func FuzzJSON(f *testing.F) {
	f.Add(`{"rows": [{"a": 1.50, "b": null}, {"a": "x"}], "z": [[]]}`)
	f.Add(`{"rows": {"rows": [1]}}`)
	s := []Selection{{Rows: at(f, JSON, "$.rows[*]")}}
	f.Fuzz(func(t *testing.T, doc string) {
		// Streamed or whole, the records are the same.
		var got [2]string
		var errs [2]error
		for i, whole := range []bool{false, true} {
			_, errs[i] = Read(strings.NewReader(doc), "", &Options{Kind: JSON}, s, whole, plenty, func(_ int, r Row) error {
				text, nature := r.At(at(t, JSON, "a"))
				got[i] += fmt.Sprint(r.Place(), text, nature)
				return nil
			})
		}
		// A name that comes twice is where the two may differ: the last one counts in a whole document.
		if errs[0] == nil && errs[1] == nil && got[0] != got[1] && strings.Count(doc, `rows`) < 2 {
			t.Errorf("%q: %s and %s", doc, got[0], got[1])
		}
	})
}
