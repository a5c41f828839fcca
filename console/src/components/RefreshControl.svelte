<script lang="ts">
  import { api, ask, type Plan, type Refresh } from '../lib/api';
  import { follow } from '../lib/events';
  import { complain, say } from '../lib/notes.svelte';
  import { world } from '../lib/world.svelte';
  import PlanDialog from './PlanDialog.svelte';

  let { list, columns = [], into }: { list: string; columns?: string[]; into?: string } = $props();

  let running = $state<Refresh | null>(null);
  let expected = $state(0); // seconds
  let faults = $state<string[]>([]);
  let plan = $state<Plan | null>(null);
  const done = $derived(running ? running.answered + running.failed : 0);
  const left = $derived(running && running.planned ? Math.max(0, expected * (1 - done / running.planned)) : expected);

  // A refresh that is running already, started here or anywhere else, is shown.
  $effect(() => {
    void world.changes;
    const name = list;
    if (running) return;
    ask(api.GET('/api/v1/refreshes', { params: { query: { watchlist: name, limit: 1 } } })).then(
      ({ refreshes }) => {
        const newest = refreshes[0];
        if (!running && newest && name === list && (newest.state === 'running' || newest.state === 'queued'))
          watch(newest);
      },
      () => {}, // the next change asks again
    );
  });

  let ended: AbortController | null = null;
  $effect(() => () => ended?.abort());

  function watch(refresh: Refresh) {
    running = refresh;
    faults = [];
    expected = 0;
    ended?.abort();
    ended = new AbortController();
    const signal = ended.signal;
    void follow(`/api/v1/refreshes/${refresh.id}/events`, signal, (event) => {
      if (!running) return true;
      const { data } = event.data as { data: Record<string, number | string> };
      if (event.kind === 'planned') {
        running.planned = running.answered + running.failed + Number(data.requests);
        expected = Number(data.seconds);
      } else if (event.kind === 'answered') {
        running.answered++;
        running.units += Number(data.units);
      } else if (event.kind === 'failed' || event.kind === 'retrying') {
        if (event.kind === 'failed') running.failed++;
        faults = [`${data.source} ${data.call}: ${data.fault}`, ...faults].slice(0, 3);
      } else if (event.kind === 'finished') {
        finish(String(data.state), String(data.fault));
        return true;
      }
    });
  }

  function finish(state: string, fault: string) {
    const r = running;
    running = null;
    if (!r) return;
    if (state === 'failed') complain(new Error(`The refresh failed: ${fault}`));
    else if (r.failed) say(`Refreshed ${list}, but ${r.failed} of ${r.planned} requests failed: ${faults[0] ?? ''}`);
    else if (state === 'cancelled')
      say(`Stopped. ${r.answered} of ${r.planned} requests were answered; what they brought stays.`);
    else if (r.answered) say(`Refreshed ${list}: ${r.answered} requests, ${r.units} units.`);
    else say(`Everything that can be had is fresh; nothing was asked for.`);
  }

  async function start(force = false) {
    plan = null;
    try {
      watch(
        await ask(
          api.POST('/api/v1/watchlists/{name}/refreshes', {
            params: { path: { name: list } },
            body: { force, columns, in: into },
          }),
        ),
      );
    } catch (error) {
      complain(error);
    }
  }

  async function preview() {
    try {
      const r = await ask(
        api.POST('/api/v1/watchlists/{name}/refreshes', {
          params: { path: { name: list } },
          body: { dry_run: true, columns, in: into },
        }),
      );
      plan = r.plan ?? null;
    } catch (error) {
      complain(error);
    }
  }

  async function cancel() {
    if (!running) return;
    try {
      await ask(api.POST('/api/v1/refreshes/{id}/cancel', { params: { path: { id: running.id } } }));
    } catch (error) {
      complain(error);
    }
  }

  function shortcut(e: KeyboardEvent) {
    const typing = e.target instanceof Element && e.target.closest('input, textarea, select, dialog');
    if (e.key === 'r' && !typing && !e.ctrlKey && !e.metaKey && !running) void start();
  }
</script>

<svelte:window onkeydown={shortcut} />

{#if running}
  <div class="flex items-center gap-2 text-sm" role="status" aria-label="Refresh">
    <progress
      class="progress w-28 progress-primary"
      value={running.planned ? done : undefined}
      max={running.planned || 1}
      aria-label="Requests answered"
    ></progress>
    <span class="whitespace-nowrap">
      {running.planned ? `${done} of ${running.planned} requests, ${running.units} units` : 'planning'}{left >= 0.5
        ? `, about ${Math.ceil(left)} s left`
        : ''}
    </span>
    <button class="btn btn-sm" onclick={cancel}>Stop</button>
    {#if faults[0]}<span class="max-w-60 truncate text-warning" title={faults.join('\n')}>{faults[0]}</span>{/if}
  </div>
{:else}
  <div class="join">
    <button class="btn join-item btn-sm btn-primary" onclick={() => start()} title="Fetch what is due ( r )"
      >Refresh</button
    >
    <button class="btn join-item btn-sm" onclick={preview} title="What a refresh would send and cost">Plan</button>
  </div>
{/if}

{#if plan}<PlanDialog {plan} {list} onstart={start} onclose={() => (plan = null)} />{/if}
