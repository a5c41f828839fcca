<script lang="ts">
  import ArrowDown from '@lucide/svelte/icons/arrow-down';
  import ArrowUp from '@lucide/svelte/icons/arrow-up';
  import Trash from '@lucide/svelte/icons/trash-2';
  import X from '@lucide/svelte/icons/x';
  import { api, ask, Trouble, type Cell, type Explanation, type Schemas, type Table } from '../lib/api';
  import { isCurrency, readable, words, type State } from '../lib/format';
  import { complain, say } from '../lib/notes.svelte';
  import { listingPath } from '../lib/route.svelte';
  import { readLists, world } from '../lib/world.svelte';
  import Account from './Account.svelte';
  import PriceLine from './PriceLine.svelte';
  import StateMark from './StateMark.svelte';
  import TroubleBox from './Trouble.svelte';

  let {
    list,
    symbol,
    field,
    onclose,
    onfield,
    oninlist,
  }: {
    list: string;
    symbol: string;
    field: string;
    onclose: () => void;
    onfield: (field: string) => void;
    oninlist: () => void;
  } = $props();

  const facts = [
    ['quote.time', 'Quote time'],
    ['quote.phase', 'Session'],
    ['quote.bid', 'Bid'],
    ['quote.ask', 'Ask'],
    ['quote.volume', 'Volume'],
    ['profile.exchange', 'Exchange'],
    ['profile.isin', 'ISIN'],
    ['profile.sector', 'Sector'],
    ['profile.industry', 'Industry'],
    ['profile.country', 'Country'],
    ['profile.employees', 'Employees'],
    ['profile.fiscal_year_end', 'Year end'],
    ['profile.listed_since', 'Listed since'],
  ] as const;
  const shown = ['quote.last', 'quote.change_pct', ...facts.map(([id]) => id)];
  let values = $state<Table | null>(null);
  let prices = $state<Schemas['PriceSeries'] | null>(null);
  let rows = $state<Schemas['Rows'] | null>(null);
  let explanation = $state<Explanation | null>(null);
  let trouble = $state<Trouble | null>(null);
  const place = $derived(rows?.listings.findIndex((r) => r.symbol === symbol) ?? -1);
  const row = $derived(rows?.listings[place]);
  const cells = $derived(new Map((values?.columns ?? []).map((c, i) => [c.id, values?.rows[0]?.cells[i] as Cell])));

  let quantity = $state('');
  let cost = $state('');
  $effect(() => {
    quantity = row?.quantity ?? '';
    cost = row?.cost ?? '';
  });

  // Answers for a name that is no longer picked are dropped.
  $effect(() => {
    void world.changes;
    const wanted = symbol;
    const current = () => wanted === symbol;
    const read = async () => {
      try {
        const [v, b, r] = await Promise.all([
          ask(api.GET('/api/v1/values', { params: { query: { symbols: wanted, fields: shown.join(',') } } })),
          ask(api.GET('/api/v1/prices', { params: { query: { symbols: wanted, from: '-1y', columns: 'close' } } })),
          ask(api.GET('/api/v1/watchlists/{name}', { params: { path: { name: list } } })),
        ]);
        if (!current()) return;
        [values, prices, rows, trouble] = [v, b.series[0] ?? null, r, null];
      } catch (error) {
        if (current() && error instanceof Trouble && !error.offline) trouble = error;
      }
    };
    void read();
  });

  $effect(() => {
    void world.changes;
    const wanted = `${symbol} ${field}`;
    if (!field) {
      explanation = null;
      return;
    }
    ask(api.GET('/api/v1/explain', { params: { query: { symbol, field, watchlist: list } } })).then(
      (e) => {
        if (wanted === `${symbol} ${field}`) explanation = e;
      },
      (error) => {
        if (!(error instanceof Trouble && error.offline)) complain(error);
      },
    );
  });

  const path = $derived({ name: list, symbol: symbol.replace('/', '-') });

  async function change(
    body: { quantity?: string; cost?: string; position?: number },
    done: string,
    undo?: () => void,
  ) {
    try {
      await ask(api.PATCH('/api/v1/watchlists/{name}/rows/{symbol}', { params: { path }, body }));
      say(done, undo);
      oninlist();
    } catch (error) {
      complain(error);
    }
  }

  function hold(e: SubmitEvent) {
    e.preventDefault();
    const old = { quantity: row?.quantity ?? '', cost: row?.cost ?? '' };
    void change(
      { quantity, cost: quantity ? cost : '' },
      `Set ${symbol} in ${list}.`,
      () => void change(old, `Set ${symbol} back.`),
    );
  }

  async function remove() {
    if (!row) return;
    const back = { symbol, quantity: row.quantity, cost: row.cost, position: place };
    try {
      await ask(api.DELETE('/api/v1/watchlists/{name}/rows/{symbol}', { params: { path } }));
      await readLists();
      say(`Removed ${symbol} from ${list}.`, async () => {
        try {
          await ask(
            api.POST('/api/v1/watchlists/{name}/rows', { params: { path: { name: list } }, body: { rows: [back] } }),
          );
          await readLists();
          oninlist();
        } catch (error) {
          complain(error);
        }
      });
      onclose();
      oninlist();
    } catch (error) {
      complain(error);
    }
  }
</script>

{#snippet fact(id: string, label: string)}
  {@const cell = cells.get(id)}
  {#if cell && cell.reason !== 'not_applicable'}
    <dt class="quiet">{label}</dt>
    <dd class="min-w-0">
      <button class="cursor-pointer text-left hover:underline" onclick={() => onfield(id)} title="Explain {id}">
        {#if cell.v === null}
          <span class="quiet inline-flex items-center gap-1"
            ><StateMark state={cell.state as State} />{words(cell.reason)}</span
          >
        {:else}
          {readable(cell)}{cell.unit === 'percent' ? ' %' : ''}
          {#if cell.state !== 'fresh'}<StateMark state={cell.state as State} />{/if}
        {/if}
      </button>
    </dd>
  {/if}
{/snippet}

<aside class="panel flex flex-col overflow-auto border-base-300 bg-base-100 p-3" aria-label="{symbol} in {list}">
  <header class="flex items-start gap-2">
    <div class="min-w-0">
      <h2 class="text-lg leading-tight font-semibold">
        <a class="hover:underline" href={listingPath(symbol)} title="All about it"
          >{row?.name ?? values?.rows[0]?.name ?? symbol}</a
        >
      </h2>
      <p class="quiet text-sm">{symbol} · {values?.rows[0]?.kind ?? ''}{row?.ended ? ` · ended ${row.ended}` : ''}</p>
    </div>
    <button class="btn ml-auto btn-square btn-ghost btn-sm" onclick={onclose} aria-label="Close the panel"
      ><X class="size-4" /></button
    >
  </header>

  {#if trouble}
    <TroubleBox {trouble} />
  {:else if values}
    {@const last = cells.get('quote.last')}
    {@const pct = cells.get('quote.change_pct')}
    <p class="mt-2 flex items-baseline gap-2">
      {#if last && last.v !== null}
        <span class="text-2xl font-semibold">{readable(last)}</span>
        <span>{isCurrency(last.unit) ? last.unit : ''}</span>
        {#if pct && pct.v !== null}<span class={Number(pct.v) < 0 ? 'text-error' : ''}
            >{Number(pct.v) > 0 ? '+' : ''}{readable(pct)} %</span
          >{/if}
        {#if last.state !== 'fresh'}<span class="inline-flex items-center gap-1 text-sm"
            ><StateMark state={last.state as State} />{words(last.reason)}</span
          >{/if}
      {:else if last}
        <span class="inline-flex items-center gap-1"
          ><StateMark state={last.state as State} />{words(last.reason)}{last.detail ? `: ${last.detail}` : ''}</span
        >
      {/if}
    </p>
    {#if prices && prices.bars.date.length > 1}
      <PriceLine {prices} />
    {:else if prices}
      <p class="my-2 quiet text-sm">There are no daily bars of it.</p>
    {/if}
    {#if explanation}
      <div class="my-2 rounded border border-base-300 bg-base-200 p-2"><Account {explanation} /></div>
    {/if}
    <dl class="grid grid-cols-[6.5rem_1fr] gap-x-2 text-sm">
      {#each facts as [id, label] (id)}{@render fact(id, label)}{/each}
    </dl>
    {#if row}
      <form class="mt-3 flex flex-wrap items-end gap-2 border-t border-base-300 pt-2" onsubmit={hold}>
        <label class="text-sm"
          >Quantity<input
            class="input input-sm block w-24"
            inputmode="decimal"
            bind:value={quantity}
            placeholder="watched"
          /></label
        >
        <label class="text-sm"
          >Cost, {row.currency}<input class="input input-sm block w-24" inputmode="decimal" bind:value={cost} /></label
        >
        <button class="btn btn-sm btn-primary" disabled={quantity === (row.quantity ?? '') && cost === (row.cost ?? '')}
          >Set</button
        >
        <div class="ml-auto flex gap-1">
          <button
            type="button"
            class="btn btn-square btn-ghost btn-sm"
            aria-label="Move up"
            disabled={place <= 0}
            onclick={() => change({ position: place - 1 }, `Moved ${symbol} up.`)}><ArrowUp class="size-4" /></button
          >
          <button
            type="button"
            class="btn btn-square btn-ghost btn-sm"
            aria-label="Move down"
            disabled={place === (rows?.listings.length ?? 0) - 1}
            onclick={() => change({ position: place + 1 }, `Moved ${symbol} down.`)}
            ><ArrowDown class="size-4" /></button
          >
          <button type="button" class="btn btn-square btn-ghost btn-sm" aria-label="Remove from {list}" onclick={remove}
            ><Trash class="size-4" /></button
          >
        </div>
      </form>
    {/if}
  {:else}
    <p class="quiet p-4" role="status">Reading {symbol}…</p>
  {/if}
</aside>

<style>
  .panel {
    width: 23rem;
    border-left-width: 1px;
    flex-shrink: 0;
  }
  @media (max-width: 900px) {
    .panel {
      position: fixed;
      inset: auto 0 0 0;
      width: auto;
      max-height: 72dvh;
      border-left-width: 0;
      border-top: 2px solid var(--color-base-300);
      z-index: 20;
    }
  }
</style>
