<script lang="ts">
  import { api, ask, Trouble, type Schemas } from '../lib/api';
  import { axis, base, colour } from '../lib/charts';
  import { grouped, words, type State } from '../lib/format';
  import { go, listPath, route, withQuery } from '../lib/route.svelte';
  import { theme } from '../lib/theme.svelte';
  import { world } from '../lib/world.svelte';
  import Chart from '../components/Chart.svelte';
  import CurrencySelect from '../components/CurrencySelect.svelte';
  import RefreshControl from '../components/RefreshControl.svelte';
  import StateMark from '../components/StateMark.svelte';
  import TroubleBox from '../components/Trouble.svelte';

  let { name }: { name: string } = $props();

  let income = $state<Schemas['Income'] | null>(null);
  let trouble = $state<Trouble | null>(null);
  const chosen = $derived(route.query.get('in') ?? '');

  $effect(() => {
    void world.changes;
    const query = { in: chosen || undefined };
    ask(api.GET('/api/v1/watchlists/{name}/income', { params: { path: { name }, query } })).then(
      (x) => ([income, trouble] = [x, null]),
      (error) => {
        if (error instanceof Trouble && !error.offline) trouble = error;
      },
    );
  });

  const currencies = $derived([...new Set((income?.names ?? []).map((n) => n.currency))]);
  // One chart holds one currency: the one that is paid most often, unless one is chosen.
  const charted = $derived.by(() => {
    // eslint-disable-next-line svelte/prefer-svelte-reactivity -- it does not outlive the call
    const count = new Map<string, number>();
    for (const p of income?.payments ?? []) count.set(p.currency, (count.get(p.currency) ?? 0) + 1);
    return [...count.entries()].sort((a, b) => b[1] - a[1])[0]?.[0] ?? '';
  });
  const unknown = $derived(
    (income?.names ?? []).filter(
      (n) => (n.state === 'missing' || n.state === 'pending') && n.reason !== 'not_applicable',
    ),
  );

  const option = $derived.by(() => {
    void theme.name;
    const months = income?.months ?? [];
    const of = (month: Schemas['IncomeMonth']) => month.sums.find((s) => s.currency === charted);
    const bar = (label: string, values: number[], fill: Record<string, unknown>) => ({
      name: label,
      type: 'bar',
      stack: 'paid',
      barMaxWidth: 34,
      itemStyle: fill,
      data: values.map((v) => (v > 0 ? Math.round(v * 100) / 100 : null)), // an empty bar would still have its outline
    });
    return {
      ...base(),
      legend: {
        right: 8,
        top: 0,
        itemWidth: 14,
        itemHeight: 10,
        textStyle: { color: colour('base-content'), fontSize: 12 },
      },
      xAxis: axis({ type: 'category', data: months.map((m) => m.month) }),
      yAxis: axis({ type: 'value', name: charted }),
      series: [
        bar(
          'announced',
          months.map((m) => (of(m)?.amount ?? 0) - (of(m)?.expected ?? 0)),
          { color: colour('primary') },
        ),
        bar(
          'expected',
          months.map((m) => of(m)?.expected ?? 0),
          {
            color: colour('base-300'),
            borderColor: colour('primary'),
            borderWidth: 1,
            borderType: 'dashed',
          },
        ),
      ],
    };
  });

  const sums = $derived(
    (income?.total ?? []).map((s) => ({
      text: `${grouped(s.amount, 2)} ${s.currency}`,
      rest: s.expected > 0 ? `${grouped(s.expected, 2)} of it expected, not announced` : 'all announced',
    })),
  );
</script>

<svelte:head><title>Income of {name} · Soba</title></svelte:head>

<div class="flex-1 overflow-auto">
  <div class="mx-auto max-w-6xl p-4">
    <header class="flex flex-wrap items-center gap-3">
      <h1 class="text-xl font-semibold">Income of <a class="link" href={listPath(name)}>{name}</a></h1>
      <RefreshControl list={name} />
      <CurrencySelect value={chosen} {currencies} onchoose={(c) => go(withQuery({ in: c }))} />
    </header>
    {#if trouble}
      <TroubleBox {trouble} />
    {:else if !income}
      <p class="quiet p-4" role="status">Reading…</p>
    {:else if !income.names.length}
      <p class="mt-6 max-w-lg">
        Nothing is held in {name}. Pick a row of the <a class="link" href={listPath(name)}>list</a> and give it a quantity;
        its dividends then stand here.
      </p>
    {:else}
      <dl class="mt-4 flex flex-wrap gap-x-8 gap-y-2">
        {#each sums as s (s.text)}
          <div>
            <dt class="quiet text-sm">from {income.from} to {income.to}</dt>
            <dd><span class="text-2xl font-semibold">{s.text}</span> <span class="quiet text-sm">{s.rest}</span></dd>
          </div>
        {:else}
          <p>No dividend is known or expected from {income.from} to {income.to}.</p>
        {/each}
      </dl>
      {#if charted}
        <figure class="mt-3">
          <Chart {option} label="Dividends by month in {charted}; the payments are listed below" />
          <figcaption class="quiet text-xs">
            By month of payment, {charted}, before tax.
            {#if income.total.length > 1}Other currencies are listed below; choose one above to add them up.{/if}
          </figcaption>
        </figure>
      {/if}
      {#if unknown.length}
        <p class="mt-3 text-sm">
          <StateMark state="missing" /> Of {unknown.length}
          {unknown.length === 1 ? 'holding' : 'holdings'} nothing is known: {unknown
            .map((n) => `${n.symbol} (${words(n.reason ?? '')})`)
            .join(', ')}.
        </p>
      {/if}
      <div class="mt-4 grid gap-6 lg:grid-cols-2">
        <section aria-labelledby="payments">
          <h2 id="payments" class="mb-1 font-semibold">Calendar</h2>
          <table class="table table-xs">
            <thead
              ><tr><th>Paid on</th><th>Ex-date</th><th>Listing</th><th class="text-right">Amount</th><th></th></tr
              ></thead
            >
            <tbody>
              {#each income.payments as p (p.on + p.symbol + p.kind)}
                <tr>
                  <td>{p.on}</td>
                  <td>{p.ex_date}</td>
                  <td
                    ><a
                      class="link"
                      title={p.name}
                      href="{listPath(name)}?view=dividends&row={encodeURIComponent(p.symbol)}">{p.symbol}</a
                    ></td
                  >
                  <td class="text-right">{grouped(p.amount, 2)} {p.currency}</td>
                  <td class="quiet"
                    >{p.expected ? 'expected' : p.kind === 'coupon' ? 'owed' : 'announced'}{p.kind === 'regular'
                      ? ''
                      : `, ${words(p.kind)}`}</td
                  >
                </tr>
              {/each}
            </tbody>
          </table>
        </section>
        <section aria-labelledby="names">
          <h2 id="names" class="mb-1 font-semibold">By holding</h2>
          <table class="table table-xs">
            <thead
              ><tr
                ><th>Listing</th><th class="text-right">Quantity</th><th class="text-right">Within the year</th><th
                  class="text-right">Yield on cost %</th
                ></tr
              ></thead
            >
            <tbody>
              {#each income.names as n (n.symbol)}
                <tr>
                  <td
                    ><a class="link" title={n.name} href="{listPath(name)}?row={encodeURIComponent(n.symbol)}"
                      >{n.symbol}</a
                    ></td
                  >
                  <td class="text-right">{grouped(n.quantity, 0)}</td>
                  <td class="text-right">
                    {#if n.reason === 'not_applicable'}<span class="quiet">pays no dividends</span>
                    {:else if n.state === 'missing' || n.state === 'pending'}<span class="quiet"
                        ><StateMark state={n.state as State} /> {words(n.reason ?? '')}</span
                      >
                    {:else}{grouped(n.amount, 2)}
                      {n.paid_in}
                      {#if n.state === 'stale'}<StateMark state="stale" />{/if}{/if}
                  </td>
                  <td class="text-right">{n.yield_on_cost ? grouped(n.yield_on_cost * 100, 2) : ''}</td>
                </tr>
              {/each}
            </tbody>
          </table>
        </section>
      </div>
    {/if}
  </div>
</div>
