package cli

import (
	"context"
	"net/url"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"soba.invalid/soba/internal/settings"
	"soba.invalid/soba/internal/wire"
)

// completionTime bounds how long a shell waits for the service.
const completionTime = 2 * time.Second

// offer asks the service for completions; a shell is told nothing of what fails.
func (a *app) offer(cmd *cobra.Command, find func(context.Context) ([]cobra.Completion, error)) ([]cobra.Completion, cobra.ShellCompDirective) {
	if a.client == nil { // no other step has made it by then
		v, err := settings.Read(cmd.Flags(), "")
		if err != nil {
			return nil, cobra.ShellCompDirectiveNoFileComp
		}
		a.settings, a.client = v, newClient(v.String("server"), v.String("token"))
	}
	ctx, cancel := context.WithTimeout(context.Background(), completionTime)
	defer cancel()
	found, err := find(ctx)
	if err != nil {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	return found, cobra.ShellCompDirectiveNoFileComp
}

func (a *app) completeWatchlists(cmd *cobra.Command, args []string, _ string) ([]cobra.Completion, cobra.ShellCompDirective) {
	return a.offer(cmd, func(ctx context.Context) (out []cobra.Completion, err error) {
		all, err := get[wire.Watchlists](ctx, a.client, "/api/v1/watchlists", nil)
		for _, w := range all.Watchlists {
			if len(args) == 0 {
				out = append(out, w.Name)
			}
		}
		return out, err
	})
}

func (a *app) completeSymbols(cmd *cobra.Command, begun string) ([]cobra.Completion, cobra.ShellCompDirective) {
	return a.offer(cmd, func(ctx context.Context) (out []cobra.Completion, err error) {
		found, err := get[wire.Listings](ctx, a.client, "/api/v1/listings", url.Values{"query": {begun}})
		for _, l := range found.Listings {
			if strings.HasPrefix(l.Symbol, strings.ToUpper(begun)) {
				out = append(out, cobra.CompletionWithDesc(l.Symbol, l.Name))
			}
		}
		return out, err
	})
}

// completeListsAndSymbols offers both, as either may be named.
func (a *app) completeListsAndSymbols(cmd *cobra.Command, args []string, begun string) ([]cobra.Completion, cobra.ShellCompDirective) {
	symbols, directive := a.completeSymbols(cmd, begun)
	lists, _ := a.completeWatchlists(cmd, nil, begun)
	return append(lists, symbols...), directive
}

func (a *app) completeListThenSymbols(cmd *cobra.Command, args []string, begun string) ([]cobra.Completion, cobra.ShellCompDirective) {
	if len(args) == 0 {
		return a.completeWatchlists(cmd, args, begun)
	}
	return a.completeSymbols(cmd, begun)
}

func (a *app) completeSymbolThenFields(cmd *cobra.Command, args []string, begun string) ([]cobra.Completion, cobra.ShellCompDirective) {
	if len(args) == 0 {
		return a.completeSymbols(cmd, begun)
	}
	return a.completeFields(cmd, args, begun)
}

// completeFields completes the last of several fields joined by commas.
func (a *app) completeFields(cmd *cobra.Command, _ []string, begun string) ([]cobra.Completion, cobra.ShellCompDirective) {
	before := begun[:strings.LastIndex(begun, ",")+1]
	out, directive := a.offer(cmd, func(ctx context.Context) (out []cobra.Completion, err error) {
		found, err := get[wire.Catalogue](ctx, a.client, "/api/v1/fields", nil)
		for _, f := range found.Fields {
			if strings.HasPrefix(f.ID, begun[len(before):]) {
				out = append(out, cobra.CompletionWithDesc(before+f.ID, f.Label))
			}
		}
		return out, err
	})
	return out, directive | cobra.ShellCompDirectiveNoSpace
}

func (a *app) completeViews(cmd *cobra.Command, _ []string, _ string) ([]cobra.Completion, cobra.ShellCompDirective) {
	return a.offer(cmd, func(ctx context.Context) (out []cobra.Completion, err error) {
		found, err := get[wire.Catalogue](ctx, a.client, "/api/v1/fields", nil)
		for _, v := range found.Views {
			out = append(out, cobra.CompletionWithDesc(v.Name, v.Label))
		}
		return out, err
	})
}
