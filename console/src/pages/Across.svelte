<script lang="ts">
  import { api, ask, Trouble, type Cell, type Schemas } from '../lib/api';
  import { grouped, readable, words, type State } from '../lib/format';
  import { go, listingPath, listPath, route, withQuery } from '../lib/route.svelte';
  import { world } from '../lib/world.svelte';
  import Choice from '../components/Choice.svelte';
  import CurrencySelect from '../components/CurrencySelect.svelte';
  import RefreshControl from '../components/RefreshControl.svelte';
  import StateMark from '../components/StateMark.svelte';
  import TroubleBox from '../components/Trouble.svelte';

  let { name }: { name: string } = $props();

  const stretches = [
    ['year', 'Years'],
    ['half', 'Halves'],
    ['quarter', 'Quarters'],
    ['ttm', 'Twelve months'],
  ] as const;
  const shapes = [
    ['', 'By name'],
    ['figure', 'By figure'],
  ] as const;
  const sets: Record<string, string> = {
    ratios: '',
    growth: 'growth.revenue,growth.net_income,growth.eps,growth.fcf,growth.revenue_3y,growth.revenue_5y',
    margins: 'margin.gross,margin.operating,margin.net,margin.ebitda,margin.fcf',
    valuation: 'value.pe,value.ps,value.pb,value.pcf,value.ev_sales,value.ev_ebitda,value.earnings_yield',
    accounts:
      'income.revenue,income.operating_income,income.net_income,income.eps_diluted,balance.total_assets,balance.equity,balance.total_debt,cash.operating,cash.free',
  };

  const q = $derived(route.query);
  const by = $derived((q.get('by') ?? 'year') as 'year' | 'half' | 'quarter' | 'ttm');
  const set = $derived(q.get('set') ?? 'ratios');
  const fields = $derived(q.get('fields') ?? sets[set] ?? '');
  const count = $derived(Number(q.get('count') ?? 5));
  const common = $derived(q.get('common') === 'yes');
  const byFigure = $derived(q.get('shape') === 'figure');
  const chosen = $derived(q.get('in') ?? '');

  let across = $state<Schemas['Across'] | null>(null);
  let trouble = $state<Trouble | null>(null);
  $effect(() => {
    void world.changes;
    const query = {
      watchlist: name,
      fields: fields || undefined,
      by,
      count: Math.min(20, Math.max(1, count || 5)),
      common,
      in: chosen || undefined,
    };
    ask(api.GET('/api/v1/across', { params: { query } })).then(
      (x) => ([across, trouble] = [x, null]),
      (error) => {
        if (error instanceof Trouble && !error.offline) trouble = error;
      },
    );
  });

  type Field = Schemas['AcrossField'];
  type Row = Schemas['AcrossRow'];
  const currencies = $derived([...new Set((across?.rows ?? []).map((r) => r.currency))]);
  const currencyOf = (cells: Row['cells'][number]) => cells?.find((c) => c.unit.length === 3)?.unit ?? '';
  const unit = (f: Field, cells: Row['cells'][number]) =>
    f.unit === 'percent' ? '%' : f.unit === 'money' || f.unit === 'price' ? currencyOf(cells) : '';
  // Why what is blank is, each reason once a name.
  const blanks = $derived(
    (across?.rows ?? []).flatMap((r) => {
      const reasons: Record<string, string[]> = {};
      r.cells.forEach((cells, k) =>
        cells?.forEach((c) => {
          if (c.v !== null) return;
          // Which period an input is of differs from column to column.
          const detail = (c.detail ?? '').replace(/([a-z]\.[a-z0-9_]+)@[-A-Z0-9]+/, '$1');
          const why = `${words(c.reason)}${detail ? `: ${detail}` : ''}`;
          const label = across?.fields[k]?.label.toLowerCase() ?? '';
          reasons[why] = [...new Set([...(reasons[why] ?? []), label])];
        }),
      );
      return Object.entries(reasons).map(([why, of]) => ({ symbol: r.symbol, why, of: of.join(', ') }));
    }),
  );
  function shown(c: Schemas['Cell']): string {
    if (typeof c.v !== 'number') return String(c.v ?? '');
    if (c.unit === 'percent') return grouped(c.v * 100, 2);
    if (c.unit === 'ratio') return grouped(c.v, 2);
    return readable(c as Cell);
  }
</script>

{#snippet cell(c: Schemas['Cell'], label: string, end: string)}
  <td class="text-right whitespace-nowrap" title="{label} to {end}{c.detail ? `: ${c.detail}` : ''}">
    {#if c.v === null}<span class="quiet"><StateMark state={c.state as State} /> {words(c.reason)}</span>
    {:else}{shown(c)}{#if c.state !== 'fresh'}&nbsp;<StateMark state={c.state as State} />{/if}{/if}
  </td>
{/snippet}

{#snippet end(e: Schemas['PeriodEnd'] | undefined)}
  {#if e?.end}to {e.end}{#if e.apart}&nbsp;<abbr
        class="no-underline"
        title="more than 92 days before the newest of this column">≠</abbr
      >{/if}{/if}
{/snippet}

<svelte:head><title>{name} through the years · Soba</title></svelte:head>

<div class="flex-1 overflow-auto">
  <div class="mx-auto max-w-7xl p-4">
    <header class="flex flex-wrap items-center gap-3">
      <h1 class="text-xl font-semibold"><a class="link" href={listPath(name)}>{name}</a> through the years</h1>
      <RefreshControl list={name} />
      <CurrencySelect {currencies} value={chosen} onchoose={(c) => go(withQuery({ in: c }))} />
    </header>
    <div class="mt-2 flex flex-wrap items-center gap-2">
      <select
        class="select w-36 select-sm"
        aria-label="Figures"
        value={set}
        onchange={(e) =>
          go(withQuery({ set: e.currentTarget.value === 'ratios' ? '' : e.currentTarget.value, fields: '' }))}
      >
        <option value="ratios">Twelve ratios</option>
        <option value="margins">Margins</option>
        <option value="growth">Growth</option>
        <option value="valuation">Valuation</option>
        <option value="accounts">Accounts</option>
      </select>
      <Choice
        label="Stretch of time"
        options={stretches}
        value={by}
        onchoose={(v) => go(withQuery({ by: v === 'year' ? '' : v }))}
      />
      <Choice
        label="One block for each"
        options={shapes}
        value={byFigure ? 'figure' : ''}
        onchoose={(v) => go(withQuery({ shape: v }))}
      />
      <label class="label text-sm">
        <input
          type="checkbox"
          class="checkbox checkbox-sm"
          checked={common}
          onchange={(e) => go(withQuery({ common: e.currentTarget.checked ? 'yes' : '' }))}
        />
        to the newest day that all have
      </label>
      <label class="label text-sm">
        <input
          class="input input-sm w-16 text-right"
          type="number"
          min="1"
          max="20"
          value={count}
          onchange={(e) => go(withQuery({ count: e.currentTarget.value === '5' ? '' : e.currentTarget.value }))}
        />
        periods
      </label>
    </div>
    {#if trouble}
      <TroubleBox {trouble} />
    {:else if !across}
      <p class="p-4 quiet" role="status">Reading…</p>
    {:else if !across.rows.length}
      <p class="mt-4">No name of {name} publishes accounts.</p>
    {:else}
      {#if across.common}<p class="mt-2 text-sm">
          The twelve months up to {across.common}, to which every name has accounts, and the same of the years before.
        </p>{/if}
      <div class="mt-2 overflow-x-auto">
        <table class="table table-xs" aria-label="Figures across names">
          {#if byFigure}
            <thead>
              <tr>
                <th scope="col">Figure</th>
                <th scope="col">Newest</th>
                {#each across.periods as p (p)}<th scope="col" class="text-right">{p}</th>{/each}
              </tr>
            </thead>
            {#each across.fields as f, k (f.id)}
              <tbody>
                <tr>
                  <th scope="rowgroup" colspan={across.periods.length + 2} class="pt-4 text-sm" title={f.definition}
                    >{f.label}{f.unit === 'percent' ? ', %' : ''}</th
                  >
                </tr>
                {#each across.rows as r (r.symbol)}
                  {@const cells = r.cells[k] ?? []}
                  <tr>
                    <th scope="row" class="sticky left-0 bg-base-100 font-normal whitespace-nowrap"
                      ><a class="link" href={listingPath(r.symbol)} title={r.name}>{r.symbol}</a>
                      <span class="quiet">{f.unit === 'percent' ? '' : unit(f, cells)}</span></th
                    >
                    <td class="quiet whitespace-nowrap">{@render end(r.ends[0])}</td>
                    {#each cells as c, i (i)}{@render cell(c, r.ends[i]?.label ?? '', r.ends[i]?.end ?? '')}{/each}
                  </tr>
                {/each}
              </tbody>
            {/each}
          {:else}
            {#each across.rows as r (r.symbol)}
              <tbody>
                <tr>
                  <th scope="rowgroup" class="sticky left-0 bg-base-100 pt-4 text-sm whitespace-nowrap"
                    ><a class="link" href={listingPath(r.symbol)}>{r.symbol}</a>
                    <span class="font-normal">{r.name}</span></th
                  >
                  {#each r.ends as e, i (i)}
                    <th scope="col" class="pt-4 text-right whitespace-nowrap"
                      >{across.common ? '' : e.label}<br /><span class="font-normal">{@render end(e)}</span></th
                    >
                  {/each}
                </tr>
                {#each across.fields as f, k (f.id)}
                  {@const cells = r.cells[k] ?? []}
                  <tr>
                    <th scope="row" class="sticky left-0 bg-base-100 font-normal whitespace-nowrap" title={f.definition}
                      >{f.label} <span class="quiet">{unit(f, cells)}</span></th
                    >
                    {#each cells as c, i (i)}{@render cell(c, r.ends[i]?.label ?? '', r.ends[i]?.end ?? '')}{/each}
                  </tr>
                {/each}
              </tbody>
            {/each}
          {/if}
        </table>
      </div>
      {#if blanks.length}
        <h2 class="mt-4 text-sm font-semibold">Why what is blank is</h2>
        <ul class="mt-1 text-sm">
          {#each blanks as b (b.symbol + b.why)}
            <li><span class="font-medium">{b.symbol}</span> {b.of}: <span class="quiet">{b.why}</span></li>
          {/each}
        </ul>
      {/if}
      <p class="quiet mt-2 text-xs">
        Hover over a value for its period. ≠ ends more than 92 days before the newest of its column.
        {#if across.omitted.length}Left out, for they publish no accounts: {across.omitted.join(', ')}.{/if}
      </p>
    {/if}
  </div>
</div>
