package intake

import (
	"bytes"
	"fmt"
	"strings"
	"testing"

	"github.com/xuri/excelize/v2"
)

func TestColumnsAreGuessed(t *testing.T) {
	for _, c := range []struct{ name, file, want string }{
		{"plain", "symbol,quantity,cost\nKELP.XCVH,120,31.20\n", "2 KELP.XCVH 120 31.2"},
		{"names of people", "Security Name,ISIN,Qty,Average cost\nMarram,XA0000000001,1 200,\"€31.20\"\n", "2 XA0000000001 1200 31.2"},
		{"semicolons and decimal commas", "Ticker;Market;Shares;Cost basis\nKELP;xcvh;100;3.120,50\n", "2 KELP.XCVH 100 31.205"},
		{"by content", "A,B\nfoo,KELP.XCVH\nbar,FERY.XCVH\n", "2 KELP.XCVH  ; 3 FERY.XCVH  "},
		{"empty lines and watched names", "Symbol,Quantity\nKELP.XCVH,\n,\nFERY.XCVH,0\n", "2 KELP.XCVH  ; 4 FERY.XCVH  "},
		{"what cannot be read", "Symbol,Quantity\nKELP.XCVH,many\n,5\nFERY.XCVH,\"1,234\"\nSALT.XCVH,-3\n", `2 KELP.XCVH   !quantity: "many" is not a number; 3    !names no listing; 4 FERY.XCVH   !quantity: "1,234" could be thousands or a decimal: write it without a comma; 5 SALT.XCVH   !quantity: "-3" is below zero`},
	} {
		l, err := Read([]byte(c.file), nil)
		if err != nil {
			t.Errorf("%s: %v", c.name, err)
			continue
		}
		if got := written(l); got != c.want {
			t.Errorf("%s:\n got %s\nwant %s", c.name, got, c.want)
		}
	}
}

func written(l *List) string {
	var out []string
	for _, x := range l.Lines {
		text := fmt.Sprintf("%d %s %s %s", x.Number, x.Name, x.Quantity, x.Cost)
		if x.Problem != "" {
			text += " !" + x.Problem
		}
		out = append(out, text)
	}
	return strings.Join(out, "; ")
}

func TestAWorkbookAndGivenColumns(t *testing.T) {
	book := excelize.NewFile()
	for i, row := range [][]any{{"Code", "Pieces", "Paid"}, {"KELP.XCVH", 12.5, 31.2}, {"FERY.XCVH", nil, nil}} {
		if err := book.SetSheetRow("Sheet1", fmt.Sprintf("A%d", i+1), &row); err != nil {
			t.Fatal(err)
		}
	}
	var b bytes.Buffer
	if err := book.Write(&b); err != nil {
		t.Fatal(err)
	}
	l, err := Read(b.Bytes(), map[Role]string{Symbol: "Code", Quantity: "Pieces", Cost: "Paid"})
	if err != nil || written(l) != "2 KELP.XCVH 12.5 31.2; 3 FERY.XCVH  " {
		t.Errorf("%v, %v", l, err)
	}
	if l, err = Read([]byte("Symbol,Number,Cost\nKELP.XCVH,7,31\n"), map[Role]string{Quantity: ""}); err != nil || written(l) != "2 KELP.XCVH  31" {
		t.Errorf("a column that is none: %v, %v", l, err)
	}
	_, err = Read(b.Bytes(), map[Role]string{Quantity: "Peices"})
	if err == nil || !strings.Contains(err.Error(), `the nearest is "Pieces"`) {
		t.Error(err)
	}
	for name, file := range map[string]string{"nothing": "", "a header alone": "symbol\n", "no symbols": "a,b\n1,2\n", "no text": "\xff\xfe\x00"} {
		if _, err := Read([]byte(file), nil); err == nil {
			t.Errorf("%s is taken for a list", name)
		}
	}
}
