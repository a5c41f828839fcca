<script lang="ts">
  import { createVirtualizer } from '@tanstack/svelte-virtual';
  import { untrack } from 'svelte';
  import { get } from 'svelte/store';
  import type { Cell, Table, TableRow } from '../lib/api';
  import { readable, unitLabel, words, type State } from '../lib/format';
  import RangeGauge from './RangeGauge.svelte';
  import Spark from './Spark.svelte';
  import StateMark from './StateMark.svelte';

  let {
    table,
    rows,
    sort,
    row,
    field,
    onsort,
    onpick,
  }: {
    table: Table;
    rows: TableRow[];
    sort: string;
    row: string;
    field: string;
    onsort: (key: string) => void;
    onpick: (symbol: string, field: string) => void;
  } = $props();

  const height = 30;
  let scroller: HTMLDivElement;
  const virtual = createVirtualizer<HTMLDivElement, HTMLTableRowElement>({
    count: 0,
    getScrollElement: () => scroller,
    estimateSize: () => height,
    overscan: 10,
  });
  $effect(() => {
    const count = rows.length;
    untrack(() => get(virtual).setOptions({ count, getScrollElement: () => scroller }));
  });

  const items = $derived($virtual.getVirtualItems());
  const before = $derived(items[0]?.start ?? 0);
  const after = $derived($virtual.getTotalSize() - (items.at(-1)?.end ?? 0));
  const currencies = $derived(table.in ? [table.in] : [...new Set(table.rows.map((r) => r.currency))]);
  const texts = new Set(['line', 'text', 'date', 'time']);

  // The cell under the keyboard. Column -1 is the name.
  let at = $state({ r: 0, c: -1 });
  $effect(() => {
    const r = rows.findIndex((x) => x.symbol === row);
    const c = table.columns.findIndex((x) => x.id === field);
    if (r >= 0) at = { r, c: untrack(() => (field ? c : at.c)) };
  });

  function move(e: KeyboardEvent) {
    const last = { r: rows.length - 1, c: table.columns.length - 1 };
    const page = Math.max(1, Math.floor(scroller.clientHeight / height) - 2);
    const to = { ...at };
    switch (e.key) {
      case 'ArrowDown':
        to.r++;
        break;
      case 'ArrowUp':
        to.r--;
        break;
      case 'ArrowRight':
        to.c++;
        break;
      case 'ArrowLeft':
        to.c--;
        break;
      case 'PageDown':
        to.r += page;
        break;
      case 'PageUp':
        to.r -= page;
        break;
      case 'Home':
        if (e.ctrlKey) to.r = 0;
        else to.c = -1;
        break;
      case 'End':
        if (e.ctrlKey) to.r = last.r;
        else to.c = last.c;
        break;
      case 'Enter':
      case ' ':
        pick(at.r, at.c);
        break;
      default:
        return;
    }
    e.preventDefault();
    at = { r: Math.min(last.r, Math.max(0, to.r)), c: Math.min(last.c, Math.max(-1, to.c)) };
    get(virtual).scrollToIndex(at.r, { align: 'auto' });
    requestAnimationFrame(() =>
      document.getElementById(cellId(at.r, at.c))?.scrollIntoView({ block: 'nearest', inline: 'nearest' }),
    );
  }

  function pick(r: number, c: number) {
    const chosen = rows[r];
    if (!chosen) return;
    at = { r, c };
    onpick(chosen.symbol, table.columns[c]?.id ?? '');
  }

  function cellId(r: number, c: number): string {
    return `cell-${r}-${c}`;
  }

  function sortBy(id: string) {
    onsort(sort === id ? `-${id}` : sort === `-${id}` ? '' : id);
  }

  function describe(cell: Cell): string {
    const parts = [cell.state, cell.reason && words(cell.reason), cell.detail, ...cell.flags.map(words)];
    return parts.filter(Boolean).join(', ');
  }

  function isTextual(unit: string): boolean {
    return texts.has(unit);
  }
</script>

<div bind:this={scroller} class="scroller min-h-0 flex-1 overflow-auto">
  <table
    class="grid-of-cells border-separate border-spacing-0 text-[0.9rem]"
    role="grid"
    tabindex="0"
    aria-label="{table.watchlist}: {rows.length} rows"
    aria-rowcount={rows.length + 1}
    aria-colcount={table.columns.length + 1}
    aria-activedescendant={cellId(at.r, at.c)}
    onkeydown={move}
  >
    <thead>
      <tr>
        <th class="head corner text-left" scope="col" aria-colindex="1">Listing</th>
        {#each table.columns as column, i (column.id)}
          {@const by = sort.replace('-', '') === column.id}
          <th
            scope="col"
            aria-colindex={i + 2}
            class="head"
            class:text-right={!isTextual(column.unit)}
            class:text-left={isTextual(column.unit)}
            aria-sort={by ? (sort.startsWith('-') ? 'descending' : 'ascending') : 'none'}
            title="{column.id}: {column.definition}"
          >
            <button
              class="w-full cursor-pointer {isTextual(column.unit) ? 'text-left' : 'text-right'}"
              tabindex="-1"
              onclick={() => sortBy(column.id)}
            >
              <span class="block whitespace-nowrap"
                >{column.label.replace(' %', '')}{by ? (sort.startsWith('-') ? ' ↓' : ' ↑') : ''}</span
              >
              <span class="quiet block text-xs font-normal whitespace-nowrap"
                >{unitLabel(column.unit, currencies) || '\u00a0'}</span
              >
            </button>
          </th>
        {/each}
      </tr>
    </thead>
    <tbody>
      {#if before > 0}<tr aria-hidden="true" style:height="{before}px"></tr>{/if}
      {#each items as item (rows[item.index]?.symbol ?? item.key)}
        {@const r = rows[item.index]}
        {#if r}
          <tr
            aria-rowindex={item.index + 2}
            aria-selected={r.symbol === row}
            class="row"
            class:picked={r.symbol === row}
            style:height="{height}px"
          >
            <th
              scope="row"
              id={cellId(item.index, -1)}
              class="first"
              class:here={at.r === item.index && at.c === -1}
              onclick={() => pick(item.index, -1)}
            >
              <span class="flex items-baseline gap-2">
                <span class="w-24 shrink-0" class:font-semibold={r.held} title={r.held ? 'held' : 'watched'}
                  >{r.symbol}</span
                >
                <span class="quiet hidden w-44 truncate font-normal md:inline">{r.name}</span>
                {#if currencies.length > 1 || (table.in && ['pair', 'index'].includes(r.kind))}<span
                    class="quiet ml-auto text-xs font-normal">{r.currency}</span
                  >{/if}
              </span>
            </th>
            {#each r.cells as cell, c (c)}
              {@const column = table.columns[c]}
              <td
                aria-colindex={c + 2}
                id={cellId(item.index, c)}
                class:text-right={!isTextual(column?.unit ?? '')}
                class:here={at.r === item.index && at.c === c}
                class:chosen={r.symbol === row && column?.id === field}
                title={describe(cell)}
                onclick={() => pick(item.index, c)}
              >
                {#if cell.v === null}
                  <span class="quiet inline-flex items-center gap-1 text-xs">
                    <StateMark state={cell.state as State} title={describe(cell)} />
                    {#if cell.reason !== 'not_applicable'}{words(cell.reason)}{/if}
                  </span>
                {:else}
                  {#if cell.unit === 'line'}<Spark line={String(cell.v)} label={readable(cell)} />{/if}
                  {#if column?.id === 'price.range_position'}<RangeGauge position={Number(cell.v)} />{/if}
                  <span
                    class:quiet={cell.state !== 'fresh'}
                    class:down={typeof cell.v === 'number' && cell.v < 0}
                    class:refreshing={cell.flags.includes('refreshing')}
                    class:gauged={column?.id === 'price.range_position'}
                    class:sr-only={cell.unit === 'line'}>{readable(cell)}</span
                  >
                  {#if cell.state !== 'fresh'}<StateMark state={cell.state as State} title={describe(cell)} />{/if}
                {/if}
              </td>
            {/each}
          </tr>
        {/if}
      {/each}
      {#if after > 0}<tr aria-hidden="true" style:height="{after}px"></tr>{/if}
    </tbody>
  </table>
</div>

<style>
  .grid-of-cells:focus-visible {
    outline-offset: -2px;
  }
  .head {
    position: sticky;
    top: 0;
    z-index: 2;
    padding: 0.3rem 0.6rem;
    background: var(--color-base-200);
    border-bottom: 1px solid var(--color-base-300);
    vertical-align: top;
  }
  .corner {
    left: 0;
    z-index: 3;
  }
  .first {
    position: sticky;
    left: 0;
    z-index: 1;
    padding: 0 0.6rem;
    text-align: left;
    font-weight: 400;
    background: var(--color-base-100);
    border-right: 1px solid var(--color-base-300);
    border-bottom: 1px solid color-mix(in oklab, var(--color-base-300) 55%, transparent);
    cursor: pointer;
    white-space: nowrap;
  }
  td {
    padding: 0 0.6rem;
    border-bottom: 1px solid color-mix(in oklab, var(--color-base-300) 55%, transparent);
    cursor: pointer;
    white-space: nowrap;
    max-width: 16rem;
    overflow: hidden;
    text-overflow: ellipsis;
  }
  .row:hover td,
  .row:hover .first {
    background: var(--color-base-200);
  }
  .picked td,
  .picked .first {
    background: color-mix(in oklab, var(--color-primary) 12%, var(--color-base-100));
  }
  .grid-of-cells:focus .here,
  .chosen {
    box-shadow: inset 0 0 0 2px var(--color-primary);
  }
  .down {
    color: var(--color-error);
  }
  .gauged {
    display: inline-block;
    min-width: 3.2rem;
  }
  .refreshing {
    text-decoration: underline dotted;
    text-underline-offset: 3px;
  }
</style>
