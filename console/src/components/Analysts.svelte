<script lang="ts">
  import { api, ask, Trouble, type Schemas } from '../lib/api';
  import { axis, base, colour } from '../lib/charts';
  import { grouped, readable, words } from '../lib/format';
  import { theme } from '../lib/theme.svelte';
  import { world } from '../lib/world.svelte';
  import Chart from './Chart.svelte';

  let { symbol }: { symbol: string } = $props();

  let estimates = $state<Schemas['Estimates'] | null>(null);
  let holders = $state<Schemas['Holders'] | null>(null);
  $effect(() => {
    void world.changes;
    const params = { path: { symbol: symbol.replace('/', '-') } };
    Promise.all([
      ask(api.GET('/api/v1/listings/{symbol}/estimates', { params })),
      ask(api.GET('/api/v1/listings/{symbol}/holders', { params })),
    ]).then(
      ([e, h]) => ([estimates, holders] = [e, h]),
      (error) => {
        if (error instanceof Trouble && !error.offline) estimates = holders = null;
      },
    );
  });

  const money = (x: number | null | undefined) =>
    x === null || x === undefined ? '' : readable({ v: x, unit: estimates?.estimates_currency ?? '' });
  const share = (x: number | null | undefined) =>
    x === null || x === undefined ? '' : grouped(x, Math.abs(x) < 10 ? 4 : 2);
  const percent = (x: number | null | undefined) =>
    x === null || x === undefined ? '' : `${readable({ v: x, unit: 'percent' })} %`;
  const count = (x: number | null | undefined) =>
    x === null || x === undefined ? '' : readable({ v: x, unit: 'shares' });
  const opinion = $derived(estimates?.opinions[0]);
  const say = [
    ['strong_buy', 'Strong buy', 'primary', 1],
    ['buy', 'Buy', 'primary', 0.55],
    ['hold', 'Hold', 'base-content', 0.35],
    ['reduce', 'Reduce', 'accent', 0.55],
    ['sell', 'Sell', 'accent', 1],
  ] as const;

  const opinionOption = $derived.by(() => {
    void theme.name;
    const months = [...(estimates?.opinions ?? [])].reverse();
    return {
      ...base(),
      legend: { right: 8, top: 0, itemWidth: 14, itemHeight: 10, textStyle: { color: colour('base-content') } },
      xAxis: axis({ type: 'category', data: months.map((o) => o.date.slice(0, 7)) }),
      yAxis: axis({ type: 'value', name: 'analysts' }),
      series: say.map(([id, name, fill, opacity]) => ({
        name,
        type: 'bar',
        stack: 'say',
        barMaxWidth: 26,
        itemStyle: { color: colour(fill), opacity },
        data: months.map((o) => o[id] ?? null),
      })),
    };
  });

  // What each group holds together, the oldest first.
  const together = $derived.by(() => {
    const days = [...new Set((holders?.together ?? []).map((h) => h.date))].sort();
    const of = (group: string) =>
      days.map((d) => (holders?.together ?? []).find((h) => h.date === d && h.group === group)?.part ?? null);
    return { days, insiders: of('insiders'), institutions: of('institutions') };
  });
</script>

{#if estimates && estimates.reason !== 'not_applicable'}
  <section class="mt-6" aria-labelledby="analysts">
    <h2 id="analysts" class="font-semibold">Analysts</h2>
    {#if estimates.ahead.length + estimates.behind.length + estimates.opinions.length === 0}
      <p class="mt-2">
        {estimates.state === 'missing'
          ? `${words(estimates.reason)} ${estimates.detail ?? ''}`
          : 'No analyst follows it.'}
      </p>
    {:else}
      <div class="mt-1 grid gap-6 lg:grid-cols-2">
        <div class="min-w-0">
          <h3 class="quiet text-sm">Earnings a share expected, {estimates.estimates_currency}</h3>
          <div class="overflow-x-auto">
            <table class="table table-xs">
              <thead>
                <tr>
                  <th scope="col">Period</th>
                  <th scope="col" class="text-right">Mean</th>
                  <th scope="col" class="text-right">Lowest to highest</th>
                  <th scope="col" class="text-right">Of</th>
                  <th scope="col" class="text-right" title="The mean of the estimates 90 days ago">90 days ago</th>
                  <th scope="col" class="text-right">30</th>
                  <th scope="col" class="text-right">7</th>
                  <th scope="col" class="text-right">Revenue</th>
                </tr>
              </thead>
              <tbody>
                {#each estimates.ahead as e (e.period)}
                  <tr>
                    <th scope="row" class="font-normal whitespace-nowrap" title="to {e.end}">{e.period}</th>
                    <td class="text-right">{share(e.eps)}</td>
                    <td class="text-right whitespace-nowrap">{share(e.eps_low)} – {share(e.eps_high)}</td>
                    <td class="text-right">{count(e.analysts)}</td>
                    <td class="quiet text-right">{share(e.eps_90d)}</td>
                    <td class="quiet text-right">{share(e.eps_30d)}</td>
                    <td class="quiet text-right">{share(e.eps_7d)}</td>
                    <td class="text-right whitespace-nowrap">{money(e.revenue)}</td>
                  </tr>
                {/each}
              </tbody>
            </table>
          </div>
          {#if estimates.behind.length}
            <h3 class="quiet mt-3 text-sm">What was expected, and what it became</h3>
            <table class="table table-xs">
              <thead>
                <tr>
                  <th scope="col">Quarter</th>
                  <th scope="col" class="text-right">Expected</th>
                  <th scope="col" class="text-right">Became</th>
                  <th scope="col" class="text-right">Surprise</th>
                </tr>
              </thead>
              <tbody>
                {#each estimates.behind as e (e.period)}
                  <tr>
                    <th scope="row" class="font-normal" title="to {e.end}">{e.period}</th>
                    <td class="text-right">{share(e.eps)}</td>
                    <td class="text-right">{share(e.eps_actual)}</td>
                    <td class="text-right">{percent(e.surprise)}</td>
                  </tr>
                {/each}
              </tbody>
            </table>
          {/if}
        </div>
        <div class="min-w-0">
          {#if opinion}
            <h3 class="quiet text-sm">Recommendations by month</h3>
            <Chart height="h-48" option={opinionOption} label="How many analysts recommend what, month by month" />
            <p class="text-sm">
              Mean {opinion.recommendation ? readable({ v: opinion.recommendation, unit: 'ratio' }) : '–'} of 1 (strong buy)
              to 5 (sell), in {opinion.date.slice(0, 7)}. They aim at
              {readable({ v: opinion.target, unit: estimates.currency })}
              {estimates.currency}, between {readable({ v: opinion.target_low, unit: estimates.currency })} and
              {readable({ v: opinion.target_high, unit: estimates.currency })}.
              {#if estimates.next_report}The next report is expected on {estimates.next_report}.{/if}
            </p>
          {/if}
        </div>
      </div>
      <p class="quiet mt-1 text-xs">From {estimates.source}.</p>
    {/if}
  </section>
{/if}

{#if holders && holders.largest.length + holders.together.length}
  <section class="mt-6" aria-labelledby="holders">
    <h2 id="holders" class="font-semibold">Holders</h2>
    <div class="mt-1 grid gap-6 lg:grid-cols-2">
      <div class="overflow-x-auto">
        <table class="table table-xs">
          <thead>
            <tr>
              <th scope="col">Largest</th>
              <th scope="col" class="text-right">Shares</th>
              <th scope="col" class="text-right">Of all</th>
              <th scope="col" class="text-right">Change</th>
            </tr>
          </thead>
          <tbody>
            {#each holders.largest as h (h.group + h.holder)}
              <tr>
                <th scope="row" class="font-normal"
                  >{h.holder}
                  <span class="quiet">{h.role || (h.group === 'institutions' ? 'institution' : '')}</span></th
                >
                <td class="text-right whitespace-nowrap">{count(h.shares)}</td>
                <td class="text-right whitespace-nowrap">{percent(h.part)}</td>
                <td class="text-right whitespace-nowrap">{count(h.change)}</td>
              </tr>
            {/each}
          </tbody>
        </table>
      </div>
      <div class="overflow-x-auto">
        <table class="table table-xs">
          <thead>
            <tr>
              <th scope="col">Together, at</th>
              <th scope="col" class="text-right">Insiders</th>
              <th scope="col" class="text-right">Institutions</th>
            </tr>
          </thead>
          <tbody>
            {#each [...together.days].reverse() as day, i (day)}
              {@const k = together.days.length - 1 - i}
              <tr>
                <th scope="row" class="font-normal">{day}</th>
                <td class="text-right">{percent(together.insiders[k])}</td>
                <td class="text-right">{percent(together.institutions[k])}</td>
              </tr>
            {/each}
          </tbody>
        </table>
      </div>
    </div>
    <p class="quiet mt-1 text-xs">From {holders.source}. Change since the report before.</p>
  </section>
{/if}
