<script lang="ts">
  import type { Plan } from '../lib/api';
  import { grouped } from '../lib/format';

  let {
    plan,
    list,
    onstart,
    onclose,
  }: { plan: Plan; list: string; onstart: (force: boolean) => void; onclose: () => void } = $props();

  let dialog: HTMLDialogElement;
  $effect(() => dialog.showModal());
  const sources = $derived(Object.keys(plan.units).filter((source) => plan.units[source]));
  const fresh = $derived(
    plan.skipped
      .filter((gap) => gap.reason === 'fresh')
      .map((gap) => `${gap.datasets.join(', ')} of ${gap.count}`)
      .join(', '),
  );
  const waiting = $derived(plan.skipped.filter((gap) => gap.reason !== 'fresh'));
</script>

<dialog bind:this={dialog} class="modal" {onclose} aria-labelledby="plan-title">
  <div class="modal-box max-w-2xl">
    <h2 id="plan-title" class="text-lg font-semibold">A refresh of {list} now</h2>
    {#if plan.requests.length}
      <p class="my-2">
        {plan.requests.length}
        {plan.requests.length === 1 ? 'request' : 'requests'}, about {plan.seconds.toFixed(1)} s.
        {sources
          .map(
            (source) => `${source}: ${plan.units[source]} of ${grouped(plan.left[source] ?? 0, 0)} units left today.`,
          )
          .join(' ')}
      </p>
      <table class="table table-xs">
        <thead
          ><tr
            ><th>Source</th><th>Brings</th><th class="text-right">Names</th><th>Range</th><th class="text-right"
              >Units</th
            ></tr
          ></thead
        >
        <tbody>
          {#each plan.requests as q, i (i)}
            <tr
              ><td>{q.source}</td><td>{q.datasets.join(', ')}</td><td class="text-right"
                >{q.symbols}{q.exchange ? ` on ${q.exchange}` : ''}</td
              ><td>{q.from ? `${q.from} to ${q.to}` : ''}</td><td class="text-right">{q.units}</td></tr
            >
          {/each}
        </tbody>
      </table>
    {:else}
      <p class="my-2">Nothing is due; a refresh would send no request.</p>
    {/if}
    {#if fresh}<p class="mt-3 text-sm"><span class="font-semibold">Fresh</span> {fresh}</p>{/if}
    {#each [['Refused', plan.refused], ['Not due', waiting]] as const as [title, gaps] (title)}
      {#if gaps.length}
        <h3 class="mt-3 font-semibold">{title}</h3>
        <ul class="text-sm">
          {#each gaps as gap, i (i)}
            <li>
              {gap.datasets.join(', ')} of {gap.count}
              {gap.count === 1 ? 'name' : 'names'}: {gap.reason}
              <span class="quiet">({gap.symbols.join(' ')}{gap.count > gap.symbols.length ? ' …' : ''})</span>
            </li>
          {/each}
        </ul>
      {/if}
    {/each}
    <div class="modal-action">
      <button class="btn btn-ghost" onclick={() => dialog.close()}>Close</button>
      <button class="btn" onclick={() => onstart(true)} title="Ask again even for what is fresh">Refresh all</button>
      <button class="btn btn-primary" disabled={!plan.requests.length} onclick={() => onstart(false)}
        >Refresh what is due</button
      >
    </div>
  </div>
</dialog>
