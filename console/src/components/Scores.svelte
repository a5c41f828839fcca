<script lang="ts">
  import { api, ask, Trouble, type Cell, type Table } from '../lib/api';
  import { grouped, readable, words, type State } from '../lib/format';
  import { fieldOf, world } from '../lib/world.svelte';
  import StateMark from './StateMark.svelte';

  let { symbol }: { symbol: string } = $props();

  const tests = ['income', 'cash', 'return', 'accruals', 'debt', 'liquidity', 'shares', 'margin', 'turnover'].map(
    (t) => `score.f_${t}`,
  );
  const weights = ['liquidity', 'retained', 'operating', 'market', 'turnover'].map((t) => `score.z_${t}`);
  const periods = ['TTM', 'FY', 'FY-1', 'FY-2', 'FY-3', 'FY-4'];
  const at = (field: string, period: string) => `${field}@${period}`;

  let values = $state<Table | null>(null);
  $effect(() => {
    void world.changes;
    const wanted = [...tests, 'strength.f_score', ...weights, 'strength.z_score'];
    const fields = wanted.flatMap((f) => periods.map((p) => at(f, p))).join(',');
    ask(api.GET('/api/v1/values', { params: { query: { symbols: symbol, fields } } })).then(
      (v) => (values = v),
      (error) => {
        if (error instanceof Trouble && !error.offline) values = null;
      },
    );
  });
  const cells = $derived(new Map((values?.columns ?? []).map((c, i) => [c.id, values?.rows[0]?.cells[i] as Cell])));
  const exists = $derived(cells.get('strength.f_score@FY')?.reason !== 'not_applicable' && cells.size > 0);
  const label = (field: string) => fieldOf(field)?.label ?? field;
  const weight = (cell: Cell | undefined) => (typeof cell?.v === 'number' ? grouped(cell.v, 2) : '');
  const passed = (cell: Cell | undefined) => (cell?.v === null ? '' : cell?.v ? '✓' : '✗');
</script>

{#snippet gap(cell: Cell | undefined)}
  {#if cell}
    <span class="quiet" title="{words(cell.reason)} {cell.detail ?? ''}"><StateMark state={cell.state as State} /></span
    >
  {/if}
{/snippet}

{#snippet scored(parts: string[], total: string, show: (cell: Cell | undefined) => string)}
  <table class="table table-xs">
    <thead>
      <tr>
        <th scope="col">{label(total)}</th>
        {#each periods as p (p)}<th scope="col" class="text-right">{p === 'TTM' ? '12 months' : p}</th>{/each}
      </tr>
    </thead>
    <tbody>
      {#each parts as field (field)}
        <tr>
          <th scope="row" class="font-normal" title={fieldOf(field)?.definition}>{label(field)}</th>
          {#each periods as p (p)}
            {@const cell = cells.get(at(field, p))}
            <td class="text-right" title={cell?.detail ?? ''}
              >{#if cell && cell.v !== null}{show(cell)}{:else}{@render gap(cell)}{/if}</td
            >
          {/each}
        </tr>
      {/each}
      <tr class="font-semibold">
        <th scope="row" title={fieldOf(total)?.definition}>Score</th>
        {#each periods as p (p)}
          {@const cell = cells.get(at(total, p))}
          <td class="text-right"
            >{#if cell && cell.v !== null}{Number.isInteger(cell.v) ? readable(cell) : weight(cell)}{:else}{@render gap(
                cell,
              )}{/if}</td
          >
        {/each}
      </tr>
    </tbody>
  </table>
{/snippet}

{#if exists}
  <section class="mt-6" aria-labelledby="scores">
    <h2 id="scores" class="font-semibold">Scores</h2>
    <div class="mt-1 grid gap-6 lg:grid-cols-2">
      <div class="overflow-x-auto">{@render scored(tests, 'strength.f_score', passed)}</div>
      <div class="overflow-x-auto">
        {@render scored(weights, 'strength.z_score', weight)}
      </div>
    </div>
    <p class="quiet mt-1 text-xs">
      ✓ a test that was passed, ✗ one that was not, each against the same period a year before. Hover over a name for
      what it tests; <code>soba score {symbol}</code> shows what went in.
    </p>
  </section>
{/if}
