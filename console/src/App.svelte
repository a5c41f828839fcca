<script lang="ts">
  import Header from './components/Header.svelte';
  import Notes from './components/Notes.svelte';
  import TokenPrompt from './components/TokenPrompt.svelte';
  import Trouble from './components/Trouble.svelte';
  import { access } from './lib/access.svelte';
  import { followLink, go, listPath, route } from './lib/route.svelte';
  import { live, world } from './lib/world.svelte';
  import Across from './pages/Across.svelte';
  import Health from './pages/Health.svelte';
  import Sources from './pages/Sources.svelte';
  import Start from './pages/Start.svelte';
  import Watchlist from './pages/Watchlist.svelte';

  $effect(live);

  // The first page is the first watchlist, where there is one.
  $effect(() => {
    const first = world.lists.find((w) => w.name === 'income') ?? world.lists[0];
    if (route.page === 'home' && first) go(listPath(first.name), true);
  });
</script>

<svelte:document onclick={followLink} />

<div class="flex h-dvh flex-col bg-base-100 text-base-content">
  <a href="#main" class="btn btn-primary sr-only focus:not-sr-only focus:absolute focus:z-50">Skip to the page</a>
  <Header />
  {#if !world.connected && world.ready}
    <div role="status" class="border-b border-warning/50 bg-base-200 px-4 py-1 text-sm text-warning">
      The service does not answer. What you see is what it said last; it is asked again by itself.
    </div>
  {/if}
  <main id="main" class="flex min-h-0 flex-1 flex-col">
    {#if world.trouble && !world.ready}
      <Trouble trouble={world.trouble} />
    {:else if !world.ready}
      <p class="p-8 quiet" role="status">Reading the watchlists…</p>
    {:else if route.page === 'list'}
      {#key route.list}<Watchlist name={route.list} />{/key}
    {:else if route.page === 'health'}
      <Health name={route.list} />
    {:else if route.page === 'income'}
      {#await import('./pages/Income.svelte') then Income}<Income.default name={route.list} />{/await}
    {:else if route.page === 'across'}
      <Across name={route.list} />
    {:else if route.page === 'listing'}
      {#await import('./pages/Listing.svelte') then Listing}
        {#key route.symbol}<Listing.default symbol={route.symbol} />{/key}
      {/await}
    {:else if route.page === 'sources'}
      <Sources />
    {:else}
      <Start />
    {/if}
  </main>
  <Notes />
  {#if access.needed}<TokenPrompt />{/if}
</div>
