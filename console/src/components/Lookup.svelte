<script lang="ts">
  import { api, ask, Trouble, type Listing } from '../lib/api';
  import { complain, say } from '../lib/notes.svelte';
  import { go, listPath, route, withQuery } from '../lib/route.svelte';
  import { readLists } from '../lib/world.svelte';

  let text = $state('');
  let found = $state<Listing[]>([]);
  let open = $state(false);
  let at = $state(0);
  let searched = $state('');
  let input: HTMLInputElement;

  // Answers may overtake each other; only that to the newest question counts.
  let asked = 0;
  async function search() {
    const question = ++asked;
    if (!text.trim()) {
      found = [];
      open = false;
      return;
    }
    try {
      const answer = await ask(api.GET('/api/v1/listings', { params: { query: { query: text, limit: 12 } } }));
      if (question !== asked) return;
      found = answer.listings;
      searched = text;
      at = 0;
      open = true;
    } catch (error) {
      if (!(error instanceof Trouble && error.offline)) complain(error);
    }
  }

  async function choose(listing: Listing | undefined) {
    if (!listing) return;
    text = '';
    open = false;
    if (!route.list) {
      say(`${listing.symbol} is ${listing.name}. Open a watchlist to add it.`);
      return;
    }
    const list = route.list;
    try {
      await ask(
        api.POST('/api/v1/watchlists/{name}/rows', {
          params: { path: { name: list } },
          body: { rows: [{ symbol: listing.symbol }] },
        }),
      );
      say(`Added ${listing.symbol} to ${list}.`, async () => {
        try {
          await ask(
            api.DELETE('/api/v1/watchlists/{name}/rows/{symbol}', {
              params: { path: { name: list, symbol: listing.symbol } },
            }),
          );
        } catch (error) {
          complain(error);
        }
      });
      await readLists();
    } catch (error) {
      // A row that is there already is shown rather than complained about.
      if (!(error instanceof Trouble && error.message.includes('already'))) return complain(error);
    }
    go(
      route.page === 'list'
        ? withQuery({ row: listing.symbol, field: '' })
        : `${listPath(list)}?row=${encodeURIComponent(listing.symbol)}`,
    );
  }

  function key(e: KeyboardEvent) {
    if (e.key === 'ArrowDown' && found.length) at = (at + 1) % found.length;
    else if (e.key === 'ArrowUp' && found.length) at = (at + found.length - 1) % found.length;
    else if (e.key === 'Enter') void choose(found[at]);
    else if (e.key === 'Escape') {
      open = false;
      text = '';
      input.blur();
    } else return;
    e.preventDefault();
  }

  function shortcut(e: KeyboardEvent) {
    const typing = e.target instanceof Element && e.target.closest('input, textarea, select, dialog');
    if (e.key === '/' && !typing) {
      e.preventDefault();
      input.focus();
    }
  }
</script>

<svelte:window onkeydown={shortcut} />

<div class="relative">
  <input
    bind:this={input}
    bind:value={text}
    class="input input-sm w-full"
    type="search"
    role="combobox"
    aria-label="Find a listing by name, ticker or ISIN"
    aria-expanded={open}
    aria-controls="lookup-list"
    aria-autocomplete="list"
    aria-activedescendant={open && found.length ? `lookup-${at}` : undefined}
    placeholder="Find a name, ticker or ISIN ( / )"
    autocomplete="off"
    spellcheck="false"
    oninput={search}
    onkeydown={key}
    onblur={() => setTimeout(() => (open = false), 150)}
    onfocus={() => (open = found.length > 0 && text !== '')}
  />
  {#if open}
    <ul
      id="lookup-list"
      role="listbox"
      aria-label="Listings"
      class="absolute z-30 mt-1 max-h-96 w-[min(34rem,92vw)] overflow-auto rounded border border-base-300 bg-base-100 shadow-lg"
    >
      {#each found as listing, i (listing.symbol)}
        <!-- svelte-ignore a11y_click_events_have_key_events -->
        <li
          id="lookup-{i}"
          role="option"
          aria-selected={i === at}
          class="grid cursor-pointer grid-cols-[7.5rem_1fr_auto] items-baseline gap-3 px-3 py-1.5 {i === at
            ? 'bg-base-300'
            : ''}"
          onmouseenter={() => (at = i)}
          onmousedown={(e) => e.preventDefault()}
          onclick={() => choose(listing)}
        >
          <span class="font-semibold">{listing.symbol}</span>
          <span class="truncate">{listing.name}{listing.ended ? ` (ended ${listing.ended})` : ''}</span>
          <span class="quiet text-sm">{listing.kind} · {listing.exchange} · {listing.currency}</span>
        </li>
      {:else}
        <li role="option" aria-selected="false" class="px-3 py-2 quiet">
          Nothing is listed under “{searched}”. Try fewer letters or a part of the name.
        </li>
      {/each}
    </ul>
  {/if}
</div>
