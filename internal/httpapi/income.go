package httpapi

import (
	"context"
	"fmt"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"soba.invalid/soba/internal/core/dividend"
	"soba.invalid/soba/internal/core/income"
	"soba.invalid/soba/internal/core/table"
	"soba.invalid/soba/internal/store"
	"soba.invalid/soba/internal/wire"
)

func (s *Server) addIncome() {
	type incomeInput struct {
		ListInput
		In string `query:"in" doc:"Convert all amounts into one currency" maxLength:"3"`
	}
	huma.Register(s.api, operation(http.MethodGet, "/api/v1/watchlists/{name}/income", "get-income", "What the holdings of a list will pay within a year, in dividends and coupons", "history"),
		func(ctx context.Context, in *incomeInput) (*body[wire.Income], error) {
			list, err := s.readable(ctx, in.Name)
			if err != nil {
				return nil, err
			}
			now := s.Now()
			read := func(rows []store.Row) ([]*table.Record, error) { return s.Book.Records(ctx, rows, 0) }
			to, err := s.conversion(in.In, false, now, read)
			if err != nil {
				return nil, err
			}
			records, err := read(list.Rows)
			if err != nil {
				return nil, asProblem(err, "")
			}
			out := s.income(income.Of(records, to, now, s.Limits))
			out.Watchlist, out.In = list.Name, in.In
			return answer(out), nil
		})
}

func (s *Server) income(x *income.Income) wire.Income {
	out := wire.Income{
		From: x.From.String(), To: x.To.String(), Total: incomeSums(x.Total()),
		Months: []wire.IncomeMonth{}, Names: []wire.IncomeName{}, Payments: []wire.IncomePayment{},
	}
	for _, m := range x.Months() {
		out.Months = append(out.Months, wire.IncomeMonth{Month: fmt.Sprintf("%04d-%02d", m.Year, m.Month), Sums: incomeSums(m.Sums)})
	}
	for i := range x.Names {
		n := &x.Names[i]
		name := wire.IncomeName{
			Listing: s.listing(n.Record.Listing), Quantity: n.Quantity, Paid: n.Currency, Amount: n.Amount, Payments: n.Payments,
			State: n.Account.State.String(), Reason: n.Account.Reason.String(), Detail: n.Account.Detail,
		}
		if n.OnCost > 0 {
			name.OnCost = &n.OnCost
		}
		out.Names = append(out.Names, name)
	}
	for i := range x.Payments {
		p := &x.Payments[i]
		l := p.Record.Listing
		kind := p.Kind
		if kind == "" {
			kind = dividend.Regular
		}
		out.Payments = append(out.Payments, wire.IncomePayment{
			On: p.On.String(), Ex: p.Ex.String(), Symbol: l.Symbol.String(), Name: l.Name, PerShare: p.Adjusted, Quantity: p.Quantity,
			Amount: p.Amount, Currency: p.Currency, Kind: kind, Expected: p.Expected,
		})
	}
	return out
}

func incomeSums(sums []income.Sum) []wire.IncomeSum {
	out := make([]wire.IncomeSum, len(sums))
	for i, s := range sums {
		out[i] = wire.IncomeSum(s)
	}
	return out
}
