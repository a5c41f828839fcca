<script lang="ts">
  // The first page while there is no watchlist.
</script>

<svelte:head><title>Soba</title></svelte:head>

<div class="m-8 max-w-lg">
  <h1 class="text-xl font-semibold">There is no watchlist yet</h1>
  <p class="mt-2">
    Make one with the + above, then press <kbd class="kbd kbd-sm">/</kbd> to find listings and Enter to add them.
  </p>
  <p class="mt-2 quiet">On the command line: <code>soba watchlist new income</code></p>
</div>
