package statement

import "testing"

func TestWhenTheNextReportIsDue(t *testing.T) {
	for name, c := range map[string]struct {
		reports  []Report
		end, due string
	}{
		"the third quarter, in 60 days": {
			[]Report{revenue("2024-12-31 2024 FY", 1), revenue("2025-03-31 2025 Q1", 1), revenue("2025-06-30 2025 Q2", 1)}, "2025-09-30", "2025-11-29",
		},
		"the year, in 120 days": {
			[]Report{revenue("2025-06-30 2025 Q2", 1), revenue("2025-09-30 2025 Q3", 1)}, "2025-12-31", "2026-04-30",
		},
		"the second half is in the year": {
			[]Report{revenue("2024-09-30 2024 FY", 1), revenue("2025-03-31 2025 H1", 1)}, "2025-09-30", "2026-01-28",
		},
		"years alone": {[]Report{revenue("2024-02-29 2023 FY", 1)}, "2025-02-28", "2025-06-28"},
		// Years took 70, 72, 75 and 90 days: nine of ten are the longest of four, and seven days of grace.
		"by its own habit": {
			[]Report{
				revenue("2021-12-31 2021 FY 2022-03-11", 1), revenue("2022-12-31 2022 FY 2023-03-13", 1), revenue("2023-12-31 2023 FY 2024-03-15", 1),
				revenue("2024-12-31 2024 FY 2025-03-31", 1),
			}, "2025-12-31", "2026-04-07", // 97 days
		},
	} {
		end, due, ok := New(c.reports, nil).Next()
		if !ok || end.String() != c.end || due.String() != c.due {
			t.Errorf("%s: to %s by %s, want to %s by %s", name, end, due, c.end, c.due)
		}
	}
	if _, _, ok := New(nil, nil).Next(); ok {
		t.Error("of nothing nothing is due")
	}
}
