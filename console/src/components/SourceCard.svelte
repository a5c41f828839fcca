<script lang="ts">
  import { api, ask, type Source, type SourceCheck } from '../lib/api';
  import { grouped, moment } from '../lib/format';
  import { complain, say } from '../lib/notes.svelte';

  let { source: s, onchanged }: { source: Source; onchanged: () => void } = $props();

  let checks = $state<SourceCheck[] | null>(null);
  let checking = $state(false);
  let shown = $state('');
  const works = $derived(s.enabled && s.has_key && !s.broken && !s.fault);

  function condition(): string {
    if (!s.enabled) return 'switched off; what it gave stays readable';
    if (!s.has_key) return `no key: set ${s.key_setting}`;
    if (s.broken) return `left alone for a moment after failures: ${s.fault ?? ''}`;
    if (s.fault) return s.fault;
    if (!s.last_success) return 'not asked yet';
    return s.remark ? `works, but ${s.remark}` : 'works';
  }

  async function check() {
    checking = true;
    try {
      checks = (await ask(api.POST('/api/v1/sources/{name}/check', { params: { path: { name: s.name } }, body: {} })))
        .checks;
      shown = checks.find((c) => c.verdict !== 'works' && c.verdict !== 'skipped')?.call ?? checks[0]?.call ?? '';
    } catch (error) {
      complain(error);
    } finally {
      checking = false;
    }
  }

  async function enable(enabled: boolean) {
    try {
      await ask(api.PATCH('/api/v1/sources/{name}', { params: { path: { name: s.name } }, body: { enabled } }));
      onchanged();
      if (!enabled) say(`${s.title} is switched off.`, () => enable(true));
    } catch (error) {
      complain(error);
    }
  }
</script>

<section class="mb-3 break-inside-avoid rounded border border-base-300 p-3" aria-label={s.name}>
  <div class="flex items-baseline gap-2">
    <h2 class="font-semibold">{s.title} <span class="quiet text-sm font-normal">{s.name}</span></h2>
    <label class="ml-auto flex items-center gap-1 text-sm">
      <input
        type="checkbox"
        class="toggle toggle-sm"
        checked={s.enabled}
        onchange={(e) => enable(e.currentTarget.checked)}
      />
      ask it
    </label>
    <button class="btn btn-sm" onclick={check} disabled={checking || !s.enabled}
      >{checking ? 'Checking…' : 'Check'}</button
    >
  </div>
  <p class="text-sm" class:text-warning={!works}>{condition()}</p>
  {#if s.advice}<p class="text-sm">{s.advice}</p>{/if}
  {#if s.units_per_day}
    <progress
      class="progress my-2 w-full progress-primary"
      value={s.left_today}
      max={s.units_per_day}
      aria-label="Units left today"
    ></progress>
  {/if}
  <dl class="grid grid-cols-[8rem_1fr] gap-x-2 text-sm">
    <dt class="quiet">Serves</dt>
    <dd>{s.datasets.join(', ')}</dd>
    <dt class="quiet">Left today</dt>
    <dd>
      {s.units_per_day
        ? `${grouped(s.left_today, 0)} of ${grouped(s.units_per_day, 0)} units; anew ${moment(s.resets)}`
        : 'no allowance to spend'}
    </dd>
    <dt class="quiet">Requests today</dt>
    <dd>{s.requests_today}{s.failures_today ? `, ${s.failures_today} failed` : ''}</dd>
    <dt class="quiet">Latency</dt>
    <dd>{grouped(s.latency_ms, 0)} ms, 95 of 100 within {grouped(s.slow_ms, 0)} ms</dd>
    <dt class="quiet">Last success</dt>
    <dd>{moment(s.last_success) || 'none'}</dd>
    {#if s.last_fault}<dt class="quiet">Last fault</dt>
      <dd>{moment(s.last_fault)}</dd>{/if}
    {#if s.delay_minutes}<dt class="quiet">Quotes</dt>
      <dd>held back by {s.delay_minutes} min</dd>{/if}
    <dt class="quiet">Limits</dt>
    <dd>{s.per_second ? `${s.per_second} requests a second, ` : ''}{s.at_once} at once</dd>
    {#if s.licence}<dt class="quiet">Licence</dt>
      <dd>{s.licence}</dd>{/if}
  </dl>
  {#if checks}
    <div class="mt-3" role="region" aria-label="Check of {s.name}">
      <div class="flex flex-wrap gap-1" role="tablist" aria-label="Calls">
        {#each checks as c (c.call)}
          <button
            class="btn btn-xs"
            role="tab"
            aria-selected={c.call === shown}
            class:btn-active={c.call === shown}
            onclick={() => (shown = c.call)}
            >{c.verdict === 'works' ? '●' : c.verdict === 'skipped' ? '◌' : '○'} {c.call}</button
          >
        {/each}
        <button class="btn ml-auto btn-ghost btn-xs" onclick={() => (checks = null)}>Close</button>
      </div>
      {#each checks.filter((c) => c.call === shown) as c (c.call)}
        <p class="mt-2 text-sm">
          {c.asked}: <span class:text-warning={c.verdict !== 'works'}>{c.verdict}</span>
          {c.detail ?? ''}
          <span class="quiet">{grouped(c.took_ms, 0)} ms, {c.units} units</span>
        </p>
        {#if c.advice}<p class="text-sm">{c.advice}</p>{/if}
        {#each c.remarks ?? [] as remark (remark)}<p class="text-sm text-warning">{remark}</p>{/each}
        {#each c.samples ?? [] as sample (sample.dataset)}
          <table class="table mt-2 table-xs" aria-label="{sample.dataset} as it came and as it was understood">
            <caption class="quiet text-left text-xs"
              >{sample.dataset} of {sample.symbol || 'a listing'} at {sample.place}</caption
            >
            <thead><tr><th>Field</th><th>At</th><th>As it came</th><th>Understood as</th></tr></thead>
            <tbody>
              {#each sample.fields as f (f.field)}
                <tr>
                  <td>{f.field}</td>
                  <td><code>{f.at}</code></td>
                  <td class="max-w-40 truncate" title={f.raw}
                    >{f.found === 'absent' || f.found === 'null' ? f.found : f.raw}</td
                  >
                  <td class="max-w-40 truncate" class:text-warning={!!f.wrong} title={f.value}
                    >{f.wrong ? 'not understood' : f.value || '–'}</td
                  >
                </tr>
              {/each}
            </tbody>
          </table>
        {/each}
        {#if c.verdict !== 'works' && c.begins}<p class="mt-1 text-xs quiet">
            The answer begins: <code>{c.begins}</code>
          </p>{/if}
      {/each}
    </div>
  {/if}
</section>
