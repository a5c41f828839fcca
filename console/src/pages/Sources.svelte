<script lang="ts">
  import { api, ask, Trouble, type Preference, type Refresh, type Request, type Source } from '../lib/api';
  import { grouped, moment } from '../lib/format';
  import { complain } from '../lib/notes.svelte';
  import { go, route, withQuery } from '../lib/route.svelte';
  import { world } from '../lib/world.svelte';
  import SourceCard from '../components/SourceCard.svelte';
  import TroubleBox from '../components/Trouble.svelte';

  let sources = $state<Source[]>([]);
  let preferences = $state<Preference[]>([]);
  let refreshes = $state<Refresh[]>([]);
  let edits = $state(0);
  let requests = $state<Request[]>([]);
  let trouble = $state<Trouble | null>(null);
  let read = $state(false);
  const picked = $derived(Number(route.query.get('refresh') ?? 0));

  $effect(() => {
    void world.changes;
    void edits;
    const refresh = picked;
    Promise.all([
      ask(api.GET('/api/v1/sources')),
      ask(api.GET('/api/v1/refreshes', { params: { query: { limit: 30 } } })),
      ask(api.GET('/api/v1/requests', { params: { query: { refresh: refresh || undefined, limit: 60 } } })),
    ]).then(
      ([s, r, q]) => {
        [sources, preferences, refreshes, requests] = [s.sources, s.preferences, r.refreshes, q.requests];
        [trouble, read] = [null, true];
      },
      (error) => {
        if (error instanceof Trouble && !error.offline) trouble = error;
      },
    );
  });

  async function prefer(p: Preference, first: string, compare: boolean) {
    const order = [first, ...p.sources.filter((name) => name !== first)];
    try {
      await ask(
        api.PUT('/api/v1/preferences/{dataset}', {
          params: { path: { dataset: p.dataset } },
          body: { sources: order, compare },
        }),
      );
      edits++;
    } catch (error) {
      complain(error);
    }
  }
</script>

<svelte:head><title>Sources · Soba</title></svelte:head>

<div class="flex-1 overflow-auto">
  <div class="mx-auto max-w-6xl p-4">
    <h1 class="text-xl font-semibold">Sources and refreshes</h1>
    {#if trouble}
      <TroubleBox {trouble} />
    {:else if !read}
      <p class="quiet p-4" role="status">Reading…</p>
    {:else}
      <div class="mt-3 gap-3 md:columns-2">
        {#each sources as s (s.name)}
          <SourceCard source={s} onchanged={() => edits++} />
        {:else}
          <p>
            No source is connected. Put descriptions into a folder and start the service with <code>--sources</code>.
          </p>
        {/each}
      </div>
      {#if preferences.some((p) => p.sources.length > 1)}
        <section class="mt-5 max-w-2xl" aria-label="Preference">
          <h2 class="mb-1 font-semibold">Who is asked first</h2>
          <p class="quiet text-sm">
            The next source is asked for names that the first lacks, and when it is down. Compared, both are asked, and
            values on which they disagree are marked.
          </p>
          <table class="table table-xs">
            <thead><tr><th>Dataset</th><th>First</th><th>Then</th><th>Compare</th></tr></thead>
            <tbody>
              {#each preferences.filter((p) => p.sources.length > 1) as p (p.dataset)}
                <tr>
                  <td>{p.dataset}</td>
                  <td>
                    <select
                      class="select w-36 select-xs"
                      aria-label="First source for {p.dataset}"
                      value={p.sources[0]}
                      onchange={(e) => prefer(p, e.currentTarget.value, p.compare)}
                    >
                      {#each p.sources as name (name)}<option>{name}</option>{/each}
                    </select>
                  </td>
                  <td>{p.sources.slice(1).join(', ')}</td>
                  <td>
                    <input
                      type="checkbox"
                      class="checkbox checkbox-xs"
                      aria-label="Compare sources of {p.dataset}"
                      checked={p.compare}
                      onchange={(e) => prefer(p, p.sources[0] ?? '', e.currentTarget.checked)}
                    />
                  </td>
                </tr>
              {/each}
            </tbody>
          </table>
        </section>
      {/if}
      <div class="mt-5 grid gap-5 lg:grid-cols-[24rem_1fr]">
        <section aria-label="Refreshes">
          <h2 class="mb-1 font-semibold">Refreshes</h2>
          <table class="table table-xs">
            <thead
              ><tr
                ><th>No.</th><th>Of</th><th>State</th><th class="text-right">Requests</th><th class="text-right"
                  >Units</th
                ></tr
              ></thead
            >
            <tbody>
              {#each refreshes as r (r.id)}
                <tr class:bg-base-300={r.id === picked}>
                  <td
                    ><button
                      class="link"
                      onclick={() => go(withQuery({ refresh: r.id === picked ? '' : String(r.id) }))}
                      aria-pressed={r.id === picked}>{r.id}</button
                    ></td
                  >
                  <td>{r.watchlist || r.datasets.join(', ')}</td>
                  <td title={r.fault}>{r.state}{r.failed ? `, ${r.failed} failed` : ''}</td>
                  <td class="text-right">{r.answered} of {r.planned}</td>
                  <td class="text-right">{r.units}</td>
                </tr>
              {:else}
                <tr><td colspan="5" class="quiet">There has been none yet.</td></tr>
              {/each}
            </tbody>
          </table>
        </section>
        <section aria-label="Requests" class="min-w-0 overflow-x-auto">
          <h2 class="mb-1 font-semibold">Requests{picked ? ` of refresh ${picked}` : ''}</h2>
          <table class="table table-xs">
            <thead
              ><tr
                ><th>No.</th><th>Sent</th><th>Call</th><th class="text-right">Names</th><th class="text-right"
                  >Status</th
                ><th class="text-right">ms</th><th class="text-right">Units</th><th>Response</th></tr
              ></thead
            >
            <tbody>
              {#each requests as q (q.id)}
                <tr>
                  <td>{q.id}</td><td class="whitespace-nowrap">{moment(q.started)}</td><td>{q.source} {q.call}</td><td
                    class="text-right">{q.symbols || ''}</td
                  >
                  <td class="text-right">{q.status || ''}</td><td class="text-right">{grouped(q.took_ms, 0)}</td><td
                    class="text-right">{q.units}</td
                  >
                  <td class="max-w-56 truncate">
                    {#if q.fault || q.remarks?.length}<span
                        class="text-warning"
                        title={q.fault || q.remarks?.join('; ')}>{q.fault || q.remarks?.[0]}</span
                      >{/if}
                    {#if q.response}<a class="link" href="/api/v1/responses/{q.response}" target="_blank"
                        >{q.response.slice(0, 8)}…</a
                      >{/if}
                  </td>
                </tr>
              {:else}
                <tr><td colspan="8" class="quiet">No request was sent.</td></tr>
              {/each}
            </tbody>
          </table>
        </section>
      </div>
    {/if}
  </div>
</div>
