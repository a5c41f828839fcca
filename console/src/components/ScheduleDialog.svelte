<script lang="ts">
  import { api, ask, Trouble } from '../lib/api';
  import { moment } from '../lib/format';

  let { list, onclose }: { list: string; onclose: () => void } = $props();

  let dialog: HTMLDialogElement;
  let how = $state<'hand' | 'sessions' | 'times'>('hand');
  let every = $state('30m');
  let cron = $state('0 8 * * 1-5');
  let zone = $state(Intl.DateTimeFormat().resolvedOptions().timeZone || 'UTC');
  let next = $state('');
  let trouble = $state('');

  $effect(() => {
    dialog.showModal();
    ask(api.GET('/api/v1/watchlists/{name}/schedule', { params: { path: { name: list } } })).then(
      (s) => {
        if (s.cron) [how, cron, zone] = ['times', s.cron, s.zone ?? 'UTC'];
        else if (s.every) [how, every] = ['sessions', s.every];
        next = s.next ? moment(s.next) : '';
      },
      () => {}, // it is shown as by hand
    );
  });

  async function set(e: SubmitEvent) {
    e.preventDefault();
    const body = how === 'times' ? { cron, zone } : how === 'sessions' ? { every } : {};
    try {
      await ask(api.PUT('/api/v1/watchlists/{name}/schedule', { params: { path: { name: list } }, body }));
      dialog.close();
    } catch (error) {
      trouble = error instanceof Trouble ? `${error.message} ${error.hint}` : String(error);
    }
  }
</script>

<dialog bind:this={dialog} class="modal" {onclose} aria-labelledby="schedule-title">
  <form class="modal-box max-w-md" onsubmit={set}>
    <h2 id="schedule-title" class="text-lg font-semibold">When {list} refreshes</h2>
    <label class="mt-3 flex items-center gap-2"
      ><input type="radio" class="radio radio-sm" value="hand" bind:group={how} /> by hand only</label
    >
    <label class="mt-2 flex items-center gap-2"
      ><input type="radio" class="radio radio-sm" value="sessions" bind:group={how} /> every
      <select class="select w-24 select-sm" bind:value={every} disabled={how !== 'sessions'} aria-label="Interval">
        {#each ['5m', '15m', '30m', '1h', '2h'] as x (x)}<option>{x}</option>{/each}
        {#if !['5m', '15m', '30m', '1h', '2h'].includes(every)}<option>{every}</option>{/if}
      </select>
      while an exchange is open</label
    >
    <p class="ml-6 text-sm quiet">and once after each has closed, when its day's data is due</p>
    <label class="mt-2 flex items-center gap-2"
      ><input type="radio" class="radio radio-sm" value="times" bind:group={how} /> at set times</label
    >
    <div class="ml-6 flex gap-2">
      <input
        class="input input-sm w-36 font-mono"
        bind:value={cron}
        disabled={how !== 'times'}
        aria-label="Five fields"
      />
      <input class="input input-sm w-40" bind:value={zone} disabled={how !== 'times'} aria-label="Time zone" />
    </div>
    <p class="ml-6 text-sm quiet">minute, hour, day of month, month, day of week</p>
    {#if next}<p class="mt-3 text-sm">Next: {next}</p>{/if}
    {#if trouble}<p class="mt-2 text-sm text-error" role="alert">{trouble}</p>{/if}
    <div class="modal-action">
      <button type="button" class="btn btn-ghost" onclick={() => dialog.close()}>Cancel</button>
      <button class="btn btn-primary">Set</button>
    </div>
  </form>
</dialog>
