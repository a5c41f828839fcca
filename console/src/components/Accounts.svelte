<script lang="ts">
  import { api, ask, Trouble, type Cell, type Schemas } from '../lib/api';
  import { readable, words, type State } from '../lib/format';
  import { go, route, withQuery } from '../lib/route.svelte';
  import { world } from '../lib/world.svelte';
  import Choice from './Choice.svelte';
  import StateMark from './StateMark.svelte';

  let { symbol }: { symbol: string } = $props();

  const stretches = [
    ['year', 'Years'],
    ['half', 'Halves'],
    ['quarter', 'Quarters'],
    ['ttm', 'Twelve months'],
  ] as const;
  const parts = [
    ['income', 'Income'],
    ['balance', 'Balance sheet'],
    ['cash', 'Cash flow'],
  ] as const;
  type Part = (typeof parts)[number][0];

  const by = $derived((route.query.get('by') ?? 'year') as 'year' | 'half' | 'quarter' | 'ttm');
  const part = $derived((route.query.get('part') ?? 'income') as Part);

  let accounts = $state<Schemas['Statements'] | null>(null);
  $effect(() => {
    void world.changes;
    const params = {
      path: { symbol: symbol.replace('/', '-') },
      query: { by, of: part, count: by === 'year' ? 6 : 8, growth: true },
    } as const;
    ask(api.GET('/api/v1/listings/{symbol}/statements', { params })).then(
      (a) => (accounts = a),
      (error) => {
        if (error instanceof Trouble && !error.offline) accounts = null;
      },
    );
  });

  const percent = (x: number | null | undefined) =>
    x === null || x === undefined ? '' : `${readable({ v: x, unit: 'percent' })} %`;
  const summed = $derived((accounts?.periods ?? []).filter((p) => p.derived));
</script>

{#if accounts && accounts.reason !== 'not_applicable'}
  <section class="mt-6" aria-labelledby="accounts">
    <div class="flex flex-wrap items-center gap-2">
      <h2 id="accounts" class="mr-2 font-semibold">Accounts</h2>
      <Choice
        label="Stretch of time"
        options={stretches}
        value={by}
        onchoose={(v) => go(withQuery({ by: v === 'year' ? '' : v }))}
      />
      <Choice
        label="Part of the accounts"
        options={parts}
        value={part}
        onchoose={(v) => go(withQuery({ part: v === 'income' ? '' : v }))}
      />
    </div>
    {#if accounts.lines.length}
      <div class="mt-2 overflow-x-auto">
        <table class="table table-xs">
          <thead>
            <tr>
              <th scope="col">{accounts.accounts_currency}</th>
              {#each accounts.periods as p (p.period)}
                <th scope="col" class="text-right" title={p.filed ? `published ${p.filed}` : ''}>
                  {p.label}{p.derived ? ' *' : ''}<br /><span class="font-normal">to {p.end}</span>
                </th>
              {/each}
            </tr>
          </thead>
          <tbody>
            {#each accounts.lines as line (line.field)}
              <tr>
                <th scope="row" class="font-normal whitespace-nowrap" title={line.definition}>{line.label}</th>
                {#each line.cells as cell, i (i)}
                  <td class="text-right whitespace-nowrap">
                    {#if cell.v === null}<span class="quiet" title={cell.detail ?? ''}
                        ><StateMark state={cell.state as State} /></span
                      >
                    {:else}<span title={cell.detail ?? ''}
                        >{readable(cell as Cell)}{cell.flags.includes('restated') ? ' ↺' : ''}</span
                      >{/if}
                    <div class="quiet">{percent(line.growth?.[i])}</div>
                  </td>
                {/each}
              </tr>
            {/each}
          </tbody>
        </table>
      </div>
      <p class="quiet mt-1 text-xs">
        From {accounts.source}; below each value its growth against the same period a year before. Shares and amounts a
        share are in today’s shares.
        {#if accounts.lines.some((l) => l.cells.some((c) => c.flags.includes('restated')))}↺ restated since it was first
          known.{/if}
        {#if accounts.periods.some((p) => p.standalone)}Of the parent alone, for want of consolidated accounts.{/if}
        {#if summed.length}* put together: {summed.map((p) => `${p.label} = ${p.derived}`).join('; ')}.{/if}
        {#if accounts.unreported?.length}Not reported: {accounts.unreported.join(', ')}.{/if}
      </p>
    {:else}
      <p class="mt-2">
        {accounts.state === 'missing'
          ? `${words(accounts.reason)} ${accounts.detail ?? ''}`
          : `Nothing is published by ${by === 'ttm' ? 'twelve months' : by}.`}
      </p>
    {/if}
  </section>
{/if}
