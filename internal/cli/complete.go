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

// completing gives a completion the client, which no other step has made by then.
func (a *app) completing(cmd *cobra.Command) (context.Context, context.CancelFunc, bool) {
	if a.client == nil {
		v, err := settings.Read(cmd.Flags(), "")
		if err != nil {
			return nil, nil, false
		}
		a.settings, a.client = v, newClient(v.String("server"), v.String("token"))
	}
	ctx, cancel := context.WithTimeout(context.Background(), completionTime)
	return ctx, cancel, true
}

func (a *app) completeWatchlists(cmd *cobra.Command, args []string, _ string) ([]cobra.Completion, cobra.ShellCompDirective) {
	ctx, cancel, ok := a.completing(cmd)
	if !ok || len(args) > 0 {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	defer cancel()
	all, err := get[wire.Watchlists](ctx, a.client, "/api/v1/watchlists", nil)
	if err != nil {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	var out []cobra.Completion
	for _, w := range all.Watchlists {
		out = append(out, w.Name)
	}
	return out, cobra.ShellCompDirectiveNoFileComp
}

func (a *app) completeSymbols(cmd *cobra.Command, begun string) ([]cobra.Completion, cobra.ShellCompDirective) {
	ctx, cancel, ok := a.completing(cmd)
	if !ok || begun == "" {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	defer cancel()
	found, err := get[wire.Listings](ctx, a.client, "/api/v1/listings", url.Values{"query": {begun}})
	if err != nil {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	var out []cobra.Completion
	for _, l := range found.Listings {
		if strings.HasPrefix(l.Symbol, strings.ToUpper(begun)) {
			out = append(out, cobra.CompletionWithDesc(l.Symbol, l.Name))
		}
	}
	return out, cobra.ShellCompDirectiveNoFileComp
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
	ctx, cancel, ok := a.completing(cmd)
	if !ok {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	defer cancel()
	found, err := get[wire.Catalogue](ctx, a.client, "/api/v1/fields", nil)
	if err != nil {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	before := begun[:strings.LastIndex(begun, ",")+1]
	var out []cobra.Completion
	for _, f := range found.Fields {
		if strings.HasPrefix(f.ID, begun[len(before):]) {
			out = append(out, cobra.CompletionWithDesc(before+f.ID, f.Label))
		}
	}
	return out, cobra.ShellCompDirectiveNoFileComp | cobra.ShellCompDirectiveNoSpace
}

func (a *app) completeViews(cmd *cobra.Command, _ []string, _ string) ([]cobra.Completion, cobra.ShellCompDirective) {
	ctx, cancel, ok := a.completing(cmd)
	if !ok {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	defer cancel()
	found, err := get[wire.Catalogue](ctx, a.client, "/api/v1/fields", nil)
	if err != nil {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	var out []cobra.Completion
	for _, v := range found.Views {
		out = append(out, cobra.CompletionWithDesc(v.Name, v.Label))
	}
	return out, cobra.ShellCompDirectiveNoFileComp
}
