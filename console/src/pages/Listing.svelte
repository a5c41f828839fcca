<script lang="ts">
  import { api, ask, Trouble, type Cell, type Schemas, type Table } from '../lib/api';
  import { axis, base, colour } from '../lib/charts';
  import { isCurrency, readable, words, type State } from '../lib/format';
  import { follow } from '../lib/events';
  import { complain, say } from '../lib/notes.svelte';
  import { go, route, withQuery } from '../lib/route.svelte';
  import { theme } from '../lib/theme.svelte';
  import { fieldOf, world } from '../lib/world.svelte';
  import Accounts from '../components/Accounts.svelte';
  import Analysts from '../components/Analysts.svelte';
  import Chart from '../components/Chart.svelte';
  import Choice from '../components/Choice.svelte';
  import Model from '../components/Model.svelte';
  import Scores from '../components/Scores.svelte';
  import StateMark from '../components/StateMark.svelte';
  import TroubleBox from '../components/Trouble.svelte';

  let { symbol }: { symbol: string } = $props();

  const ranges = [
    ['-1w', '1 week'],
    ['-1m', '1 month'],
    ['-6m', '6 months'],
    ['-1y', '1 year'],
    ['-5y', '5 years'],
    ['-20y', '20 years'],
  ] as const;
  const adjustments = [
    ['splits', 'in today’s shares'],
    ['none', 'as traded'],
    ['full', 'dividends reinvested'],
  ] as const;
  const groups = [
    [
      'Price',
      [
        'quote.last',
        'quote.change_pct',
        'quote.time',
        'price.high_52w',
        'price.low_52w',
        'price.return_13w',
        'price.return_52w',
        'price.total_return_52w',
        'price.volatility_1y',
        'price.drawdown_1y',
        'price.sma_200',
        'price.rsi_14',
      ],
    ],
    [
      'Dividends',
      [
        'dividend.yield',
        'dividend.yield_forward',
        'dividend.yield_5y_average',
        'dividend.ttm',
        'dividend.forward',
        'dividend.frequency',
        'dividend.next_ex_date',
        'dividend.next_pay_date',
        'dividend.growth_5y',
        'dividend.streak',
        'dividend.payout',
        'dividend.cover',
        'dividend.cut_year',
      ],
    ],
    [
      'Valuation and quality',
      [
        'value.market_cap',
        'value.enterprise',
        'value.pe',
        'value.ps',
        'value.pb',
        'value.ev_ebitda',
        'value.fcf_yield',
        'margin.operating',
        'margin.net',
        'return.equity',
        'return.invested',
        'strength.current_ratio',
        'strength.debt_to_equity',
        'growth.revenue',
        'growth.eps',
      ],
    ],
    [
      'Profile',
      [
        'profile.kind',
        'profile.isin',
        'profile.exchange',
        'profile.sector',
        'profile.industry',
        'profile.country',
        'profile.employees',
        'profile.listed_since',
        'event.next',
        'event.next_date',
      ],
    ],
  ] as const;

  const q = $derived(route.query);
  const from = $derived(q.get('from') ?? '-1y');
  const adjust = $derived((q.get('adjust') ?? 'splits') as 'splits' | 'none' | 'full');
  // A week of days is too little to see, and years of days are more points than a screen has.
  const every = $derived(from === '-1w' ? '15m' : from === '-20y' ? 'week' : 'day');
  const span = { '15m': 'By quarter of an hour (UTC)', day: 'By day', week: 'By week' };

  let values = $state<Table | null>(null);
  let prices = $state<Schemas['PriceSeries'] | null>(null);
  let dividends = $state<Schemas['Dividends'] | null>(null);
  let trouble = $state<Trouble | null>(null);

  const fail = (error: unknown) => {
    if (error instanceof Trouble && !error.offline) trouble = error;
  };
  $effect(() => {
    void world.changes;
    const fields = groups.flatMap(([, ids]) => ids).join(',');
    const path = { symbol: symbol.replace('/', '-') };
    Promise.all([
      ask(api.GET('/api/v1/values', { params: { query: { symbols: symbol, fields } } })),
      ask(api.GET('/api/v1/listings/{symbol}/dividends', { params: { path } })),
    ]).then(([v, d]) => ([values, dividends, trouble] = [v, d, null]), fail);
  });
  $effect(() => {
    void world.changes;
    const within = every === '15m';
    const query = {
      symbols: symbol,
      from,
      every,
      adjust: within && adjust === 'full' ? 'splits' : adjust,
      columns: 'close,volume',
    } as const;
    ask(api.GET('/api/v1/prices', { params: { query } })).then((p) => (prices = p.series[0] ?? null), fail);
  });

  // A day as it is, an instant as 2026-11-25 15:30.
  const clock = (moment = '') => moment.replace('T', ' ').replace(':00Z', '');

  let fetching = $state(false);
  let left: AbortController | null = null;
  $effect(() => () => left?.abort());

  // Brings what is due for this name, as far back as the range shown.
  async function refresh() {
    fetching = true;
    left = new AbortController();
    try {
      const { id } = await ask(
        api.POST('/api/v1/refreshes', {
          body: {
            symbols: [symbol],
            from,
            columns: groups.flatMap(([, ids]) => [...ids]),
            only: every === '15m' ? ['intraday', 'quotes', 'bars', 'splits', 'dividends'] : undefined,
          },
        }),
      );
      await follow(`/api/v1/refreshes/${id}/events`, left.signal, (event) => event.kind === 'finished');
      const done = await ask(api.GET('/api/v1/refreshes/{id}', { params: { path: { id } } }));
      if (done.state === 'failed') complain(new Error(`The refresh failed: ${done.fault}`));
      else if (done.failed) say(`Refreshed ${symbol}, but ${done.failed} of ${done.planned} requests failed.`);
      else if (done.answered) say(`Refreshed ${symbol}: ${done.answered} requests, ${done.units} units.`);
      else say('Everything that can be had is fresh; nothing was asked for.');
    } catch (error) {
      complain(error);
    }
    fetching = false;
  }

  const row = $derived(values?.rows[0]);
  const cells = $derived(new Map((values?.columns ?? []).map((c, i) => [c.id, row?.cells[i] as Cell])));
  const currency = $derived(prices?.currency ?? '');

  const priceOption = $derived.by(() => {
    void theme.name;
    const days = (prices?.bars.date ?? []).map(clock);
    const closes = prices?.bars.close ?? [];
    const at = (day: string) => days.findIndex((d) => d >= day);
    const mark = (day: string, label: string, text: string, fill: string) => {
      const i = at(day);
      return i < 0 || closes[i] === null
        ? []
        : [{ coord: [days[i], closes[i]], name: label, value: text, itemStyle: { color: fill } }];
    };
    const marks = [
      ...(prices?.dividends ?? []).flatMap((d) =>
        mark(d.ex_date, `dividend ${readable({ v: d.adjusted, unit: currency })}`, 'D', colour('accent')),
      ),
      ...(prices?.splits ?? []).flatMap((s) => mark(s.date, `split ${s.ratio} for 1`, 'S', colour('error'))),
    ];
    return {
      ...base(),
      grid: [
        { left: 56, right: 16, top: 28, height: '64%' },
        { left: 56, right: 16, top: '83%', height: '13%' },
      ],
      axisPointer: { link: [{ xAxisIndex: 'all' }] },
      xAxis: [
        axis({ type: 'category', data: days, boundaryGap: false }),
        axis({ type: 'category', data: days, gridIndex: 1, axisLabel: { show: false } }),
      ],
      yAxis: [
        axis({
          type: 'value',
          name: `close, ${currency}`,
          scale: true,
          axisLabel: { show: true, fontSize: 11, formatter: (v: number) => readable({ v, unit: currency }) },
        }),
        axis({
          type: 'value',
          gridIndex: 1,
          splitNumber: 1,
          axisLabel: { show: true, fontSize: 10, formatter: (v: number) => readable({ v, unit: 'shares' }) },
        }),
      ],
      series: [
        {
          name: 'close',
          type: 'line',
          data: closes,
          showSymbol: false,
          lineStyle: { color: colour('primary'), width: 1.6 },
          itemStyle: { color: colour('primary') },
          markPoint: {
            symbol: 'circle',
            symbolSize: 15,
            symbolOffset: [0, -14],
            label: { color: colour('base-100'), fontSize: 10 },
            data: marks,
          },
        },
        {
          name: 'volume',
          type: 'bar',
          data: prices?.bars.volume ?? [],
          xAxisIndex: 1,
          yAxisIndex: 1,
          itemStyle: { color: colour('base-content'), opacity: 0.35 },
        },
      ],
    };
  });

  const yearOption = $derived.by(() => {
    void theme.name;
    const years = [...(dividends?.years ?? [])].reverse();
    const bar = (name: string, values: (number | undefined)[], fill: string) => ({
      name,
      type: 'bar',
      stack: 'paid',
      barMaxWidth: 30,
      itemStyle: { color: fill },
      data: values.map((v) => (v ? Math.round(v * 1e4) / 1e4 : null)),
    });
    const specials = years.some((y) => y.special || y.return_of_capital);
    return {
      ...base(),
      legend: specials
        ? {
            right: 8,
            top: 0,
            itemWidth: 14,
            itemHeight: 10,
            textStyle: { color: colour('base-content'), fontSize: 12 },
          }
        : undefined,
      xAxis: axis({ type: 'category', data: years.map((y) => (y.partial ? `${y.year} so far` : `${y.year}`)) }),
      yAxis: axis({ type: 'value', name: `a share, ${dividends?.currency ?? ''}` }),
      series: [
        bar(
          'regular',
          years.map((y) => y.regular),
          colour('primary'),
        ),
        ...(specials
          ? [
              bar(
                'special',
                years.map((y) => y.special),
                colour('accent'),
              ),
              bar(
                'return of capital',
                years.map((y) => y.return_of_capital),
                colour('info'),
              ),
            ]
          : []),
      ],
    };
  });

  const holes = $derived(prices?.holes ?? []);
</script>

<svelte:head><title>{symbol} · Soba</title></svelte:head>

<div class="flex-1 overflow-auto">
  <div class="mx-auto max-w-6xl p-4">
    {#if trouble}
      <TroubleBox {trouble} />
    {:else if !values || !row}
      <p class="quiet p-4" role="status">Reading…</p>
    {:else}
      {@const last = cells.get('quote.last')}
      <header class="flex flex-wrap items-baseline gap-x-4 gap-y-1">
        <h1 class="text-xl font-semibold">{row.name}</h1>
        <span class="quiet">{row.symbol} · {row.kind}</span>
        {#if last && last.v !== null}
          <span class="text-xl font-semibold">{readable(last)}</span>
          <span>{isCurrency(last.unit) ? last.unit : ''}</span>
          {#if last.state !== 'fresh'}<StateMark state={last.state as State} />{/if}
        {/if}
      </header>

      <section class="mt-3" aria-label="Prices">
        <div class="flex flex-wrap items-center gap-2">
          <Choice
            label="Range"
            options={ranges}
            value={from as (typeof ranges)[number][0]}
            onchoose={(v) => go(withQuery({ from: v === '-1y' ? '' : v }))}
          />
          <select
            class="select w-44 select-sm"
            aria-label="Adjustment"
            value={adjust}
            onchange={(e) => go(withQuery({ adjust: e.currentTarget.value === 'splits' ? '' : e.currentTarget.value }))}
          >
            {#each adjustments as [value, label] (value)}<option {value}>{label}</option>{/each}
          </select>
          <button
            class="btn btn-sm"
            disabled={fetching}
            onclick={refresh}
            title="Fetch what is due and what the range lacks">{fetching ? 'Refreshing…' : 'Refresh'}</button
          >
        </div>
        {#if prices && prices.bars.date.length > 1}
          <figure>
            <Chart
              height="h-80"
              option={priceOption}
              label="Closing prices and volume from {prices.bars.date[0]} to {prices.bars.date.at(-1)} in {currency}"
            />
            <figcaption class="quiet text-xs">
              {span[every]}, from {prices.source}, {clock(prices.bars.date[0])} to {clock(
                prices.bars.date.at(-1),
              )}{prices.provisional ? ' (today so far)' : ''}. Volume below; D marks an ex-date, S a split.
              {#if holes.length}{holes.length}
                {holes.length === 1 ? 'session is' : 'sessions are'} without a bar, the first {holes[0]?.date} ({holes[0]
                  ?.because}).{/if}
              {(prices.remarks ?? []).map((r) => `${r[0]?.toUpperCase()}${r.slice(1)}.`).join(' ')}
            </figcaption>
          </figure>
        {:else if prices}
          <p class="my-4">
            <StateMark state={prices.state as State} />
            {words(prices.reason ?? '')}
            {prices.detail ?? ''}
            {(prices.remarks ?? []).join('; ')}
          </p>
        {/if}
      </section>

      {#if dividends && dividends.reason !== 'not_applicable'}
        <section class="mt-6 grid gap-6 lg:grid-cols-[3fr_2fr]" aria-labelledby="dividends">
          <div>
            <h2 id="dividends" class="font-semibold">Dividends by year</h2>
            {#if dividends.years.length}
              <Chart height="h-56" option={yearOption} label="Dividends of a share by calendar year" />
              <p class="quiet text-xs">
                By ex-date, in today’s shares, from {dividends.source}.
                {#if dividends.overdue}One was due on {dividends.overdue} and is not known.{/if}
              </p>
            {:else}
              <p class="mt-2">
                {dividends.state === 'missing'
                  ? `${words(dividends.reason ?? '')} ${dividends.detail ?? ''}`
                  : 'It has paid none.'}
              </p>
            {/if}
          </div>
          {#if dividends.history.length || dividends.coming.length}
            <div>
              <h2 class="font-semibold">Payments</h2>
              <table class="table table-xs">
                <thead><tr><th>Ex-date</th><th>Paid on</th><th class="text-right">A share</th><th></th></tr></thead>
                <tbody>
                  {#each [...dividends.coming]
                    .reverse()
                    .filter((p) => p.expected || p.ex_date > (dividends?.history[0]?.ex_date ?? '')) as p (p.ex_date + p.kind)}
                    <tr class="quiet"
                      ><td>{p.ex_date}</td><td>{p.pay_date ?? ''}</td><td class="text-right"
                        >{readable({ v: p.adjusted, unit: p.currency })}</td
                      ><td>{p.expected ? 'expected' : 'announced'}</td></tr
                    >
                  {/each}
                  {#each dividends.history.slice(0, 8) as p (p.ex_date + p.kind)}
                    <tr
                      ><td>{p.ex_date}</td><td>{p.pay_date ?? ''}</td><td class="text-right"
                        >{readable({ v: p.adjusted, unit: p.currency })}</td
                      ><td>{p.kind === 'regular' ? '' : words(p.kind)}</td></tr
                    >
                  {/each}
                </tbody>
              </table>
              {#if dividends.history.length > 8}<p class="quiet text-xs">
                  and {dividends.history.length - 8} before; all with <code>soba dividends {row.symbol}</code>
                </p>{/if}
            </div>
          {/if}
        </section>
      {/if}

      <section class="mt-6 grid gap-x-8 gap-y-6 md:grid-cols-2" aria-label="Figures">
        {#each groups as [title, ids] (title)}
          <div>
            <h2 class="font-semibold">{title}</h2>
            <dl class="mt-1 grid grid-cols-[1fr_auto] gap-x-3 gap-y-0.5 text-sm">
              {#each ids as id (id)}
                {@const cell = cells.get(id)}
                {#if cell && cell.reason !== 'not_applicable'}
                  <dt class="quiet" title={fieldOf(id)?.definition}>{fieldOf(id)?.label ?? id}</dt>
                  <dd class="text-right">
                    {#if cell.v === null}<span class="quiet"
                        ><StateMark state={cell.state as State} /> {words(cell.reason)}</span
                      >
                    {:else}{readable(cell)}{cell.unit === 'percent' ? ' %' : ''}
                      {#if cell.flags.includes('estimate')}<span class="quiet">expected</span>{/if}
                      {#if cell.state !== 'fresh'}<StateMark state={cell.state as State} />{/if}{/if}
                  </dd>
                {/if}
              {/each}
            </dl>
          </div>
        {/each}
      </section>
      <Accounts {symbol} />
      <Analysts {symbol} />
      <Scores {symbol} />
      <Model {symbol} />
    {/if}
  </div>
</div>
