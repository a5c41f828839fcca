package catalogue

import (
	"soba.invalid/soba/internal/core/cell"
	"soba.invalid/soba/internal/core/entry"
	"soba.invalid/soba/internal/core/period"
)

// Groups of holders.
const (
	Insiders     = "insiders"
	Institutions = "institutions"
)

// holderFields are what holders of a kind have together, now or on a day.
var holderFields = []Field{
	heldBy("share.insiders_pct", "Held by insiders", Insiders, "Part of the shares that directors, officers and owners of a tenth hold."),
	heldBy("share.institutions_pct", "Held by institutions", Institutions, "Part of the shares that funds, insurers and other institutions hold."),
	fiscal("share.outstanding", "Shares outstanding", Shares, "balance.shares_outstanding", "Shares in the hands of holders by the newest report, in today's shares.", ""),
	fiscal("share.float", "Free float", Shares, "balance.shares_outstanding * (1 - share.insiders_pct)", "Shares outstanding that insiders do not hold.", ""),
}

// heldBy reads what a group of holders has together off the newest record by a day.
func heldBy(id, label, group, definition string) Field {
	f := told(id, label, Percent, Holders, definition, func(t *Told) Said {
		if e := Together(t.Entries, group, t.date()); e != nil && e.Values[holderColumns.part].Kind == cell.Number {
			return Said{Value: e.Values[holderColumns.part], Period: e.Day.String()}
		}
		return Said{Reason: cell.NotReported, Detail: "no record of " + group + " by " + t.date().String()}
	})
	f.Takes = ADate
	return f
}

var holderColumns = struct{ group, holder, part int }{columnOf(Holders, "group"), columnOf(Holders, "holder"), columnOf(Holders, "part")}

// Together is the newest record by a day of what a group of holders has together; nil
// where there is none.
func Together(entries entry.Entries, group string, by period.Date) (newest *entry.Entry) {
	for i := range entries {
		if e := &entries[i]; e.Day <= by && e.Values[holderColumns.group].Text == group && e.Values[holderColumns.holder].Text == "" {
			newest = e
		}
	}
	return newest
}
