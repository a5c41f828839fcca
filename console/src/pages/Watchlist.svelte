<script lang="ts">
  import { api, ask, Trouble, type Table } from '../lib/api';
  import type { State } from '../lib/format';
  import { complain, say } from '../lib/notes.svelte';
  import { go, listPath, route, withQuery } from '../lib/route.svelte';
  import { readLists, world } from '../lib/world.svelte';
  import CurrencySelect from '../components/CurrencySelect.svelte';
  import ColumnDialog from '../components/ColumnDialog.svelte';
  import Counts from '../components/Counts.svelte';
  import ImportDialog from '../components/ImportDialog.svelte';
  import LiveMark from '../components/LiveMark.svelte';
  import NameDialog from '../components/NameDialog.svelte';
  import RefreshControl from '../components/RefreshControl.svelte';
  import RowPanel from '../components/RowPanel.svelte';
  import ScheduleDialog from '../components/ScheduleDialog.svelte';
  import TroubleBox from '../components/Trouble.svelte';
  import WatchTable from '../components/WatchTable.svelte';

  let { name }: { name: string } = $props();

  let table = $state<Table | null>(null);
  let trouble = $state<Trouble | null>(null);
  let where = $state(route.query.get('where') ?? '');
  let whereTrouble = $state('');
  let menu = $state(false);
  let dialog: '' | 'columns' | 'rename' | 'copy' | 'import' | 'schedule' = $state('');
  let edits = $state(0);

  const q = $derived(route.query);
  const asked = $derived({
    view: q.get('columns') ? undefined : (q.get('view') ?? 'overview'),
    columns: q.get('columns') ?? undefined,
    where: q.get('where') ?? undefined,
    sort: q.get('sort') ?? undefined,
    in: q.get('in') ?? undefined,
  });
  const only = $derived((q.get('state') ?? '') as State | '');
  const rows = $derived(
    (table?.rows ?? []).filter(
      (r) => !only || r.cells.some((c) => c.state === only && (only !== 'missing' || c.reason !== 'not_applicable')),
    ),
  );

  let question = 0;
  $effect(() => {
    void world.changes;
    void edits;
    const query = asked;
    const number = ++question;
    ask(api.GET('/api/v1/watchlists/{name}/table', { params: { path: { name }, query } })).then(
      (answer) => {
        if (number !== question) return;
        [table, trouble, whereTrouble] = [answer as Table, null, ''];
      },
      (error) => {
        if (number !== question || !(error instanceof Trouble) || error.offline) return;
        if (table && (error.field === 'where' || error.field === 'sort'))
          whereTrouble = `${error.message} ${error.hint}`;
        else trouble = error;
      },
    );
  });

  function set(changes: Record<string, string>) {
    go(withQuery(changes));
  }

  function filter(e: SubmitEvent) {
    e.preventDefault();
    set({ where: where.trim() });
  }

  async function named(to: string) {
    try {
      if (dialog === 'rename')
        await ask(api.PATCH('/api/v1/watchlists/{name}', { params: { path: { name } }, body: { name: to } }));
      else await ask(api.POST('/api/v1/watchlists/{name}/copy', { params: { path: { name } }, body: { name: to } }));
      await readLists();
      dialog = '';
      go(listPath(to));
    } catch (error) {
      complain(error);
    }
  }

  async function remove() {
    try {
      await ask(api.DELETE('/api/v1/watchlists/{name}', { params: { path: { name } } }));
      await readLists();
      go('/');
      say(`Deleted the watchlist ${name}.`, async () => {
        try {
          await ask(api.POST('/api/v1/watchlists/{name}/restore', { params: { path: { name } } }));
          await readLists();
          go(listPath(name));
        } catch (error) {
          complain(error);
        }
      });
    } catch (error) {
      complain(error);
    }
  }

  function escape(e: KeyboardEvent) {
    if (e.key === 'Escape' && q.get('row') && !(e.target as Element).closest('input, dialog'))
      set({ row: '', field: '' });
  }
</script>

<svelte:window onkeydown={escape} />
<svelte:head><title>{name} · Soba</title></svelte:head>

{#if trouble}
  <TroubleBox {trouble} />
{:else if !table}
  <div class="p-4" role="status" aria-label="Reading the table">
    {#each [1, 2, 3, 4, 5, 6, 7, 8] as i (i)}<div
        class="mb-2 h-6 w-full skeleton rounded-none bg-base-200"
      ></div>{/each}
  </div>
{:else}
  <div class="flex flex-wrap items-center gap-2 border-b border-base-300 px-3 py-1.5">
    <h1 class="sr-only">{name}</h1>
    <RefreshControl list={name} columns={table.columns.map((c) => c.id)} into={asked.in} />
    <LiveMark list={name} />
    <select
      class="select w-32 select-sm"
      aria-label="View"
      value={q.get('columns') ? '' : (q.get('view') ?? 'overview')}
      onchange={(e) => set({ view: e.currentTarget.value, columns: '' })}
    >
      {#if q.get('columns')}<option value="">own columns</option>{/if}
      {#each world.views as v (v.name)}<option value={v.name}>{v.label}</option>{/each}
    </select>
    <CurrencySelect
      value={q.get('in') ?? ''}
      currencies={table.rows.map((r) => r.currency)}
      onchoose={(c) => set({ in: c })}
    />
    <button class="btn btn-ghost btn-sm" onclick={() => (dialog = 'columns')}>Columns</button>
    <form onsubmit={filter} class="min-w-36 flex-1 sm:max-w-sm">
      <input
        class="input input-sm w-full"
        class:input-error={whereTrouble}
        aria-label="Filter"
        aria-invalid={!!whereTrouble}
        aria-describedby="where-trouble"
        placeholder="Filter: quote.change_pct > 1%"
        bind:value={where}
        spellcheck="false"
        autocomplete="off"
      />
    </form>
    <Counts counts={table.counts} picked={only} onpick={(s) => set({ state: s })} />
    <span class="ml-auto flex items-center gap-1">
      <a class="btn btn-ghost btn-sm" href={listPath(name, '/income')}>Income</a>
      <a class="btn btn-ghost btn-sm" href={listPath(name, '/across')}>Years</a>
      <a class="btn btn-ghost btn-sm" href={listPath(name, '/health')}>Health</a>
      <details class="dropdown dropdown-end" bind:open={menu}>
        <summary class="btn btn-ghost btn-sm">List</summary>
        <!-- svelte-ignore a11y_click_events_have_key_events, a11y_no_noninteractive_element_interactions -->
        <ul
          class="dropdown-content menu z-30 w-56 rounded border border-base-300 bg-base-100 shadow"
          onclick={() => (menu = false)}
        >
          <li><button onclick={() => (dialog = 'import')}>Add many…</button></li>
          <li><button onclick={() => (dialog = 'schedule')}>Schedule…</button></li>
          <li><button onclick={() => (dialog = 'rename')}>Rename</button></li>
          <li><button onclick={() => (dialog = 'copy')}>Copy</button></li>
          <li>
            <a
              href="/api/v1/watchlists/{encodeURIComponent(name)}/table?format=csv&{asked.columns
                ? `columns=${asked.columns}`
                : `view=${asked.view}`}{asked.in ? `&in=${asked.in}` : ''}"
              download="{name}.csv">Save as CSV</a
            >
          </li>
          <li><button onclick={remove}>Delete</button></li>
        </ul>
      </details>
    </span>
    <p
      id="where-trouble"
      class="w-full text-sm whitespace-pre-wrap text-error"
      class:hidden={!whereTrouble}
      role="alert"
    >
      {whereTrouble}
    </p>
  </div>
  {#if table.notice}<p class="border-b border-warning/50 bg-base-200 px-4 py-1 text-sm text-warning" role="status">
      {table.notice}
    </p>{/if}
  <div class="flex min-h-0 flex-1">
    {#if table.of === 0}
      <div class="m-8 max-w-lg">
        <h2 class="text-lg font-semibold">{name} is empty</h2>
        <p class="mt-2">
          Press <kbd class="kbd kbd-sm">/</kbd>, type a name, a ticker or an ISIN, and press Enter to add a listing.
        </p>
        <p class="mt-2">
          Or add many at once: <button class="link" onclick={() => (dialog = 'import')}
            >paste a list or pick a file</button
          >.
        </p>
        <p class="mt-2 quiet">On the command line: <code>soba watchlist add {name} KELP.XCVH</code></p>
      </div>
    {:else if rows.length === 0}
      <div class="m-8">
        <p>No row of {table.of} meets the filter{only ? ` and has a value that is ${only}` : ''}.</p>
        <button
          class="btn mt-2 btn-sm"
          onclick={() => {
            where = '';
            set({ where: '', state: '' });
          }}>Show all rows</button
        >
      </div>
    {:else}
      <WatchTable
        {table}
        {rows}
        sort={q.get('sort') ?? ''}
        row={q.get('row') ?? ''}
        field={q.get('field') ?? ''}
        onsort={(sort) => set({ sort })}
        onpick={(row, field) => set({ row, field })}
      />
    {/if}
    {#if q.get('row')}
      <RowPanel
        list={name}
        symbol={q.get('row') ?? ''}
        field={q.get('field') ?? ''}
        onclose={() => set({ row: '', field: '' })}
        onfield={(field) => set({ field })}
        oninlist={() => edits++}
      />
    {/if}
  </div>
  {#if dialog === 'columns'}
    <ColumnDialog
      columns={table.columns.map((c) => c.id)}
      onclose={() => (dialog = '')}
      onchoose={(columns) => {
        dialog = '';
        set({ columns: columns.join(','), view: '' });
      }}
    />
  {:else if dialog === 'import'}
    <ImportDialog list={name} onclose={() => (dialog = '')} onadded={() => edits++} />
  {:else if dialog === 'schedule'}
    <ScheduleDialog list={name} onclose={() => (dialog = '')} />
  {:else if dialog}
    <NameDialog
      title={dialog === 'rename' ? `Rename ${name}` : `Copy ${name}`}
      action={dialog === 'rename' ? 'Rename' : 'Copy'}
      value={dialog === 'rename' ? name : ''}
      onname={named}
      onclose={() => (dialog = '')}
    />
  {/if}
{/if}
