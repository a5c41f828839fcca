<script lang="ts">
  import { api, ask, Trouble, type Cell, type Health, type Schemas } from '../lib/api';
  import { readable, words, type State } from '../lib/format';
  import { listPath, route, withQuery, go } from '../lib/route.svelte';
  import { fieldOf, world } from '../lib/world.svelte';
  import Counts from '../components/Counts.svelte';
  import RefreshControl from '../components/RefreshControl.svelte';
  import StateMark from '../components/StateMark.svelte';
  import TroubleBox from '../components/Trouble.svelte';

  let { name }: { name: string } = $props();

  const few = 12;
  let health = $state<Health | null>(null);
  let trouble = $state<Trouble | null>(null);
  let whole: Record<string, boolean> = $state({});
  const view = $derived(route.query.get('view') ?? 'overview');

  $effect(() => {
    void world.changes;
    ask(
      api.GET('/api/v1/watchlists/{name}/health', {
        params: { path: { name }, query: { view, min_years: years || undefined } },
      }),
    ).then(
      (h) => ([health, trouble] = [h, null]),
      (error) => {
        if (error instanceof Trouble && !error.offline) trouble = error;
      },
    );
  });

  let conflicts = $state<Schemas['Conflict'][]>([]);
  $effect(() => {
    void world.changes;
    ask(api.GET('/api/v1/watchlists/{name}/conflicts', { params: { path: { name } } })).then(
      (found) => (conflicts = found.conflicts),
      () => {}, // the page says what is wrong
    );
  });

  /** A field with its period, as Revenue FY-1. */
  function named(field: string): string {
    const [id = '', period] = field.split('@');
    return `${fieldOf(id)?.label ?? id}${period ? ` ${period}` : ''}`;
  }

  // Years of accounts that are wanted; 0 where nobody has said.
  const years = $derived(Number(route.query.get('years') ?? 0));

  const total = $derived(
    health ? health.counts.fresh + health.counts.stale + health.counts.pending + health.counts.missing : 0,
  );
  const bad = $derived(
    (health?.fields ?? []).filter((f) => f.counts.stale + f.counts.missing + f.counts.pending > f.not_applicable),
  );
</script>

{#snippet disputes()}
  {#if conflicts.length}
    <h2 class="mb-1 font-semibold" id="conflicts">Conflicts</h2>
    <table class="table mb-4 table-xs" aria-labelledby="conflicts">
      <tbody>
        {#each conflicts as c (c.symbol + c.field)}
          <tr>
            <td class="align-top"
              ><a
                class="link"
                href="{listPath(name)}?columns={c.their_field
                  ? `${c.field},${c.their_field}`
                  : c.field}&row={encodeURIComponent(c.symbol)}&field={c.field}">{c.symbol}</a
              ></td
            >
            <td>
              {named(c.field)}: {readable(c.cell as Cell)}
              <span class="quiet">from {c.cell.source};</span>
              {#if c.other}{readable(c.other as Cell)} <span class="quiet">by {c.other.source} itself</span>
              {:else}<span class="quiet">{c.cell.detail}</span>{/if}
            </td>
          </tr>
        {/each}
      </tbody>
    </table>
  {/if}
{/snippet}

{#snippet histories()}
  <div class="mb-4">
    <h2 class="mb-1 font-semibold" id="histories">Years of accounts</h2>
    <label class="text-sm"
      >Fewer than <input
        class="input input-xs w-14 text-right"
        type="number"
        min="0"
        max="100"
        value={years || ''}
        onchange={(e) => go(withQuery({ years: e.currentTarget.value }))}
      /> years of:</label
    >
    {#if years && !health?.short?.length}<p class="mt-1 text-sm">No name: all go back that far.</p>{/if}
    {#if health?.short?.length}
      <table class="table table-xs" aria-labelledby="histories">
        <tbody>
          {#each health.short as x (x.symbol)}
            <tr>
              <td class="align-top">{x.symbol}</td>
              <td
                >{x.years ? `${x.years}, from ${x.from}` : words(x.reason)}
                <div class="quiet">{x.advice}</div></td
              >
            </tr>
          {/each}
        </tbody>
      </table>
    {/if}
  </div>
{/snippet}

<svelte:head><title>Health of {name} · Soba</title></svelte:head>

<div class="flex-1 overflow-auto">
  <div class="mx-auto max-w-6xl p-4">
    <header class="flex flex-wrap items-center gap-3">
      <h1 class="text-xl font-semibold">Health of <a class="link" href={listPath(name)}>{name}</a></h1>
      <RefreshControl list={name} />
      <select
        class="select w-32 select-sm"
        aria-label="View"
        value={view}
        onchange={(e) => go(withQuery({ view: e.currentTarget.value }))}
      >
        {#each world.views as v (v.name)}<option value={v.name}>{v.label}</option>{/each}
      </select>
      {#if health}<Counts counts={health.counts} />{/if}
    </header>
    {#if trouble}
      <TroubleBox {trouble} />
    {:else if !health}
      <p class="quiet p-4" role="status">Reading…</p>
    {:else if !health.groups.length}
      <p class="mt-6 mb-4">All {total} values are fresh.</p>
      {@render disputes()}
      {@render histories()}
    {:else}
      <div class="mt-4 grid gap-4 lg:grid-cols-[1fr_20rem]">
        <section class="grid content-start gap-3" aria-label="By reason">
          {#each health.groups as g (g.state + g.reason)}
            {@const key = g.state + g.reason}
            {@const quiet = g.reason === 'not_applicable'}
            <details class="rounded border border-base-300" open={!quiet}>
              <summary class="flex cursor-pointer flex-wrap items-baseline gap-2 bg-base-200 px-3 py-1.5">
                <StateMark state={g.state as State} />
                <span class="font-semibold">{g.state}: {words(g.reason)}</span>
                <span>{g.meaning}</span>
                <span class="quiet ml-auto text-sm"
                  >{g.cells}
                  {g.cells === 1 ? 'value' : 'values'} of {g.names.length}
                  {g.names.length === 1 ? 'name' : 'names'}</span
                >
              </summary>
              <div class="px-3 py-2">
                <p class="text-sm"><span class="quiet">To do:</span> {g.advice}</p>
                <table class="table table-xs mt-1">
                  <thead><tr><th class="w-28">Listing</th><th>Fields</th><th>Detail</th></tr></thead>
                  <tbody>
                    {#each whole[key] ? g.names : g.names.slice(0, few) as n (n.symbol)}
                      <tr>
                        <td class="align-top"
                          ><a
                            class="link"
                            href="{listPath(name)}?view={view}&row={encodeURIComponent(n.symbol)}&field={n.fields[0]}"
                            title={n.name}>{n.symbol}</a
                          ></td
                        >
                        <td class="align-top">
                          {#each n.fields as f, i (f)}{i ? ', ' : ''}<a
                              class="hover:underline"
                              href="{listPath(name)}?view={view}&row={encodeURIComponent(n.symbol)}&field={f}"
                              >{fieldOf(f)?.label ?? f}</a
                            >{/each}
                        </td>
                        <td class="align-top quiet">{n.detail ?? ''}</td>
                      </tr>
                    {/each}
                  </tbody>
                </table>
                {#if g.names.length > few && !whole[key]}
                  <button class="btn btn-ghost btn-xs" onclick={() => (whole[key] = true)}
                    >Show all {g.names.length} names</button
                  >
                {/if}
              </div>
            </details>
          {/each}
        </section>
        <section aria-label="By field">
          {@render disputes()}
          {@render histories()}
          <h2 class="mb-1 font-semibold">By field</h2>
          <table class="table table-xs">
            <thead><tr><th>Field</th><th class="text-right">Stale</th><th class="text-right">Missing</th></tr></thead>
            <tbody>
              {#each bad as f (f.field)}
                <tr
                  ><td title={f.field}>{fieldOf(f.field)?.label ?? f.field}</td><td class="text-right"
                    >{f.counts.stale || ''}</td
                  ><td class="text-right">{f.counts.missing + f.counts.pending - f.not_applicable || ''}</td></tr
                >
              {/each}
            </tbody>
          </table>
        </section>
      </div>
    {/if}
  </div>
</div>
