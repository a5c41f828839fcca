<script lang="ts">
  import { api, ask, Trouble, type Refresh, type Request, type Source } from '../lib/api';
  import { grouped, moment } from '../lib/format';
  import { go, route, withQuery } from '../lib/route.svelte';
  import { world } from '../lib/world.svelte';
  import TroubleBox from '../components/Trouble.svelte';

  let sources = $state<Source[]>([]);
  let refreshes = $state<Refresh[]>([]);
  let requests = $state<Request[]>([]);
  let trouble = $state<Trouble | null>(null);
  let read = $state(false);
  const picked = $derived(Number(route.query.get('refresh') ?? 0));

  $effect(() => {
    void world.changes;
    const refresh = picked;
    Promise.all([
      ask(api.GET('/api/v1/sources')),
      ask(api.GET('/api/v1/refreshes', { params: { query: { limit: 30 } } })),
      ask(api.GET('/api/v1/requests', { params: { query: { refresh: refresh || undefined, limit: 60 } } })),
    ]).then(
      ([s, r, q]) => {
        [sources, refreshes, requests, trouble, read] = [s.sources, r.refreshes, q.requests, null, true];
      },
      (error) => {
        if (error instanceof Trouble && !error.offline) trouble = error;
      },
    );
  });

  function condition(s: Source): string {
    if (!s.has_key) return `no key: set ${s.name}-key`;
    if (s.broken) return `left alone for a moment after failures: ${s.fault ?? ''}`;
    return s.fault || (s.last_success ? 'working' : 'not asked yet');
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
      <div class="mt-3 grid gap-3 md:grid-cols-2">
        {#each sources as s (s.name)}
          <section class="rounded border border-base-300 p-3" aria-label={s.name}>
            <h2 class="flex items-baseline gap-2 font-semibold">
              {s.title}<span class="quiet text-sm font-normal">{s.name}</span>
            </h2>
            <p class="text-sm" class:text-warning={condition(s) !== 'working'}>{condition(s)}</p>
            <progress
              class="progress my-2 w-full progress-primary"
              value={s.left_today}
              max={s.units_per_day || 1}
              aria-label="Units left today"
            ></progress>
            <dl class="grid grid-cols-[8rem_1fr] gap-x-2 text-sm">
              <dt class="quiet">Left today</dt>
              <dd>{grouped(s.left_today, 0)} of {grouped(s.units_per_day, 0)} units</dd>
              <dt class="quiet">Requests today</dt>
              <dd>{s.requests_today}</dd>
              <dt class="quiet">Datasets</dt>
              <dd>{s.datasets.join(', ')}</dd>
              <dt class="quiet">Delay of quotes</dt>
              <dd>{s.delay_minutes} min</dd>
              <dt class="quiet">Latency</dt>
              <dd>{grouped(s.latency_ms, 0)} ms</dd>
              <dt class="quiet">Last success</dt>
              <dd>{moment(s.last_success)}</dd>
              {#if s.last_fault}<dt class="quiet">Last fault</dt>
                <dd>{moment(s.last_fault)}</dd>{/if}
              <dt class="quiet">Licence</dt>
              <dd>{s.licence}</dd>
            </dl>
          </section>
        {:else}
          <p>
            No source is connected. Set <code>gannet-url</code> and <code>gannet-key</code> when you start the service.
          </p>
        {/each}
      </div>
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
                ><th>No.</th><th>Sent</th><th>Dataset</th><th class="text-right">Names</th><th class="text-right"
                  >Status</th
                ><th class="text-right">ms</th><th class="text-right">Units</th><th>Response</th></tr
              ></thead
            >
            <tbody>
              {#each requests as q (q.id)}
                <tr>
                  <td>{q.id}</td><td class="whitespace-nowrap">{moment(q.started)}</td><td>{q.source} {q.dataset}</td
                  ><td class="text-right">{q.symbols || ''}</td>
                  <td class="text-right">{q.status || ''}</td><td class="text-right">{grouped(q.took_ms, 0)}</td><td
                    class="text-right">{q.units}</td
                  >
                  <td class="max-w-56 truncate">
                    {#if q.fault}<span class="text-warning" title={q.fault}>{q.fault}</span>{/if}
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
