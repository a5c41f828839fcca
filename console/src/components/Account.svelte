<script lang="ts">
  import type { Explanation } from '../lib/api';
  import { isCurrency, moment, readable, words, type State } from '../lib/format';
  import Account from './Account.svelte';
  import StateMark from './StateMark.svelte';

  let { explanation: e, depth = 0 }: { explanation: Explanation; depth?: number } = $props();

  const facts = $derived(
    (
      [
        ['Means', depth === 0 ? e.definition : ''],
        ['Defined by', depth === 0 ? (e.reference ?? '') : ''],
        [
          'Because',
          e.cell.reason ? `${words(e.cell.reason)}: ${e.meaning}${e.cell.detail ? ` (${e.cell.detail})` : ''}` : '',
        ],
        ['To do', e.advice ?? ''],
        ['How', e.cell.reason ? '' : (e.cell.detail ?? '')],
        ['Formula', e.formula ?? ''],
        ['Measured over', e.span ?? ''],
        ['Observed', e.cell.period || moment(e.cell.observed)],
        ['Fetched', moment(e.cell.fetched)],
        ['Checked', moment(e.checked)],
        ['Source', e.cell.source],
        ['As written', e.raw_name ? `“${e.raw_text}” under “${e.raw_name}”` : ''],
        ...(e.others ?? []).map((o) => [
          'Also',
          `${o.source} gives ${typeof o.v === 'number' ? readable({ v: o.v, unit: e.cell.unit }) : (o.v ?? `nothing${o.outcome ? `: ${words(o.outcome)}` : ''}`)}`,
        ]),
        ['Flags', e.cell.flags.map(words).join(', ')],
      ] as [string, string][]
    ).filter(([, text]) => text),
  );
</script>

<section class={depth ? 'mt-2 border-l-2 border-base-300 pl-3' : ''} aria-label="Account of {e.field}">
  <p class="flex items-baseline gap-2">
    <code class="font-semibold">{e.field}</code>
    <span class="ml-auto font-semibold">{e.readable}{isCurrency(e.cell.unit) ? ` ${e.cell.unit}` : ''}</span>
    <span class="inline-flex items-center gap-1 text-sm"><StateMark state={e.cell.state as State} />{e.cell.state}</span
    >
  </p>
  <dl class="mt-1 grid grid-cols-[6.5rem_1fr] gap-x-2 text-sm">
    {#each facts as [name, text] (name + text)}
      <dt class="quiet">{name}</dt>
      <dd class="min-w-0 break-words">
        {#if name === 'Formula'}<code>{text}</code>{:else}{text}{/if}
      </dd>
    {/each}
    {#if e.request}
      <dt class="quiet">Request</dt>
      <dd>
        {e.request.id}: {e.request.source}
        {e.request.call} of {e.request.symbols} names, {e.request.fault || `status ${e.request.status}`}
      </dd>
      {#if e.request.response}
        <dt class="quiet">Response</dt>
        <dd class="min-w-0">
          <a class="link" href="/api/v1/responses/{e.request.response}" target="_blank" title={e.request.response}
            >{e.request.response.slice(0, 12)}…</a
          >
          {#if e.place}at <code>{e.place}</code>{/if}
        </dd>
      {/if}
    {/if}
    {#each e.reports ?? [] as r (r.label + r.less)}
      <dt class="quiet">Report</dt>
      <dd>
        {r.less ? '− ' : ''}{r.label}, to {r.end}{r.filed ? `, published ${r.filed}` : ''}{#if r.request}, request {r
            .request.id} at <code>{r.place}</code>{/if}
      </dd>
    {/each}
    {#each e.besides ?? [] as b (b.dataset + b.symbol)}
      <dt class="quiet">Besides</dt>
      <dd>
        {b.dataset} of {b.symbol}, {b.cell.state}{b.cell.reason ? `: ${words(b.cell.reason)}` : ''}{b.request
          ? `, request ${b.request.id}`
          : ''}
      </dd>
    {/each}
  </dl>
  {#each e.inputs ?? [] as input (input.field)}
    <Account explanation={input} depth={depth + 1} />
  {/each}
</section>
