<script lang="ts">
  import { api, ask, upload, Trouble, type Imported } from '../lib/api';
  import { complain, say } from '../lib/notes.svelte';

  let { list, onclose, onadded }: { list: string; onclose: () => void; onadded: () => void } = $props();

  const kinds = ['symbol', 'isin', 'ticker', 'exchange', 'quantity', 'cost', 'total'];
  let dialog: HTMLDialogElement;
  let text = $state('');
  let file = $state<File | null>(null);
  let index = $state('');
  let preview = $state<Imported | null>(null);
  let trouble = $state('');
  let columns = $state<Record<string, string>>({});
  let busy = $state(false);
  let pause: ReturnType<typeof setTimeout>;
  $effect(() => dialog.showModal());

  function send(dry: boolean): Promise<Imported> {
    const chosen = Object.entries(columns)
      .map(([kind, header]) => `${kind}=${header}`)
      .join(',');
    const query = `dry_run=${dry}${chosen ? `&columns=${encodeURIComponent(chosen)}` : ''}`;
    const xlsx = file?.name.toLowerCase().endsWith('.xlsx');
    return upload<Imported>(
      `/api/v1/watchlists/${encodeURIComponent(list)}/import?${query}`,
      file ?? new Blob([text]),
      xlsx ? 'application/vnd.openxmlformats-officedocument.spreadsheetml.sheet' : 'text/csv',
    );
  }

  let looks = 0;
  async function look() {
    const turn = ++looks;
    if (!file && !text.trim()) {
      [preview, trouble] = [null, ''];
      return;
    }
    try {
      const understood = await send(true);
      if (turn === looks) [preview, trouble] = [understood, ''];
    } catch (error) {
      if (turn !== looks) return;
      preview = null;
      trouble = error instanceof Trouble ? `${error.message} ${error.hint}` : String(error);
    }
  }

  async function add() {
    busy = true;
    try {
      const done = index.trim()
        ? await ask(
            api.POST('/api/v1/watchlists/{name}/members', {
              params: { path: { name: list } },
              body: { universe: index.trim() },
            }),
          )
        : await send(false);
      say(
        `Added ${done.added} to ${list}; there already: ${done.present}${done.problems ? `; could not be added: ${done.problems}` : ''}.`,
      );
      onadded();
      dialog.close();
    } catch (error) {
      complain(error);
    } finally {
      busy = false;
    }
  }
</script>

<dialog bind:this={dialog} class="modal" {onclose} aria-labelledby="import-title">
  <div class="modal-box max-w-3xl">
    <h2 id="import-title" class="text-lg font-semibold">Add many to {list}</h2>
    <p class="mt-1 text-sm quiet">
      A list with a header: symbols, ISINs or tickers, and if you like quantities and costs. Paste it, or pick a CSV or
      XLSX file. Nothing is added before you have seen what was understood.
    </p>
    <label class="label mt-2" for="import-text">Paste</label>
    <textarea
      id="import-text"
      class="textarea w-full font-mono text-sm"
      rows="4"
      placeholder="symbol,quantity,cost&#10;KELP.XCVH,120,31.20"
      bind:value={text}
      oninput={() => {
        [file, columns] = [null, {}];
        clearTimeout(pause);
        pause = setTimeout(look, 300);
      }}></textarea>
    <div class="mt-2 flex flex-wrap items-end gap-3">
      <label class="text-sm"
        >or a file
        <input
          type="file"
          class="file-input file-input-sm"
          accept=".csv,.tsv,.txt,.xlsx"
          onchange={(e) => {
            [file, columns] = [e.currentTarget.files?.[0] ?? null, {}];
            void look();
          }}
        />
      </label>
      <label class="text-sm"
        >or the members of an index
        <input class="input input-sm w-36" placeholder="CV50.XCVH" bind:value={index} />
      </label>
    </div>
    {#if trouble}<p class="mt-2 text-sm text-error" role="alert">{trouble}</p>{/if}
    {#if preview}
      <div class="mt-3 flex flex-wrap gap-2 text-sm">
        {#each kinds as kind (kind)}
          <label class="flex flex-col"
            >{kind}
            <select
              class="select w-28 select-xs"
              value={columns[kind] ?? preview.columns[kind] ?? ''}
              onchange={(e) => {
                columns = { ...columns, [kind]: e.currentTarget.value };
                void look();
              }}
            >
              <option value="">–</option>
              {#each preview.headers as header (header)}<option>{header}</option>{/each}
            </select>
          </label>
        {/each}
      </div>
      <p class="mt-2 text-sm" role="status">
        To add: {preview.added}. There already: {preview.present}. Cannot be added: {preview.problems}.
      </p>
      <div class="mt-1 max-h-56 overflow-auto">
        <table class="table table-xs">
          <thead
            ><tr
              ><th>Line</th><th>Listing</th><th class="text-right">Quantity</th><th class="text-right">Cost</th><th
              ></th></tr
            ></thead
          >
          <tbody>
            {#each preview.lines as l (l.line)}
              <tr>
                <td>{l.line}</td>
                <td>{l.symbol ? `${l.symbol} ${l.name ?? ''}` : l.text}</td>
                <td class="text-right">{l.quantity ?? ''}</td>
                <td class="text-right">{l.cost ?? ''}</td>
                <td class:text-warning={!!l.problem}
                  >{l.problem ? `${l.problem}. ${l.hint ?? ''}` : l.present ? 'there already' : ''}</td
                >
              </tr>
            {/each}
          </tbody>
        </table>
      </div>
    {/if}
    <div class="modal-action">
      <button class="btn btn-ghost" onclick={() => dialog.close()}>Close</button>
      <button
        class="btn btn-primary"
        disabled={busy || (!index.trim() && !(preview && preview.added + preview.present > 0))}
        onclick={add}>{busy ? 'Adding…' : 'Add'}</button
      >
    </div>
  </div>
</dialog>
