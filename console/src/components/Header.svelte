<script lang="ts">
  import Moon from '@lucide/svelte/icons/moon';
  import Plus from '@lucide/svelte/icons/plus';
  import Sun from '@lucide/svelte/icons/sun';
  import { api, ask } from '../lib/api';
  import { moment } from '../lib/format';
  import { complain } from '../lib/notes.svelte';
  import { go, listPath, route } from '../lib/route.svelte';
  import { isDark, theme, toggleTheme } from '../lib/theme.svelte';
  import { readLists, world } from '../lib/world.svelte';
  import Lookup from './Lookup.svelte';
  import NameDialog from './NameDialog.svelte';

  let naming = $state(false);
  const dark = $derived(theme.name ? theme.name === 'deep' : isDark());
  const phaseWords = { open: 'open', closed: 'closed', pre_open: 'pre-open' };

  async function create(name: string) {
    try {
      await ask(api.POST('/api/v1/watchlists', { body: { name } }));
      await readLists();
      naming = false;
      go(listPath(name));
    } catch (error) {
      complain(error);
    }
  }
</script>

<header class="border-b border-base-300 bg-base-200">
  <div class="flex flex-wrap items-center gap-x-4 gap-y-1 px-3 py-1.5">
    <a href="/" class="flex items-center gap-2 text-lg font-semibold tracking-wide" aria-label="Soba, first page">
      <img src="/mark.svg" alt="" class="size-6" />soba
    </a>
    <div class="order-3 w-full sm:order-none sm:w-80"><Lookup /></div>
    <ul class="hidden items-center gap-4 text-sm lg:flex" aria-label="Exchanges">
      {#each world.status?.exchanges ?? [] as e (e.exchange)}
        <li
          title="{e.name}: {phaseWords[e.phase]}{e.next ? `, until ${moment(e.next)}` : ''}"
          class="flex items-baseline gap-1"
        >
          <span class="font-semibold">{e.exchange}</span>
          <span class="quiet">{phaseWords[e.phase]}</span>
        </li>
      {/each}
    </ul>
    <nav class="ml-auto flex items-center gap-1">
      <a href="/sources" class="btn btn-ghost btn-sm" aria-current={route.page === 'sources' ? 'page' : undefined}
        >Sources</a
      >
      <button
        class="btn btn-square btn-ghost btn-sm"
        onclick={toggleTheme}
        aria-label="Change to the {dark ? 'light' : 'dark'} theme"
      >
        {#if dark}<Sun class="size-4" />{:else}<Moon class="size-4" />{/if}
      </button>
    </nav>
  </div>
  <nav class="flex items-end gap-1 overflow-x-auto px-3" aria-label="Watchlists">
    {#each world.lists as w (w.name)}
      {@const here = route.list.toLowerCase() === w.name.toLowerCase()}
      <a
        href={listPath(w.name)}
        aria-current={here ? 'page' : undefined}
        class="rounded-t border border-b-0 px-3 py-1 whitespace-nowrap {here
          ? 'border-base-300 bg-base-100 font-semibold'
          : 'border-transparent hover:bg-base-300'}"
      >
        {w.name} <span class="quiet text-sm font-normal">{w.rows}</span>
      </a>
    {/each}
    <button
      class="btn btn-ghost btn-sm"
      onclick={() => (naming = true)}
      aria-label="New watchlist"
      title="New watchlist"><Plus class="size-4" /></button
    >
  </nav>
</header>

{#if naming}
  <NameDialog title="New watchlist" action="Make it" onname={create} onclose={() => (naming = false)} />
{/if}
