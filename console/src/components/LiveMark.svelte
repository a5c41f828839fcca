<script lang="ts">
  import { follow } from '../lib/events';
  import { moment } from '../lib/format';

  // As long as this is on screen the service streams the quotes of the list.
  let { list }: { list: string } = $props();

  interface Stream {
    live: boolean;
    every_seconds: number;
    next: string | null;
    why: string;
  }
  let stream = $state<Stream | null>(null);
  let connected = $state(true);

  $effect(() => {
    const ended = new AbortController();
    stream = null;
    void follow(
      `/api/v1/watchlists/${encodeURIComponent(list)}/stream`,
      ended.signal,
      (event) => {
        stream = event.data as Stream;
      },
      (yes) => (connected = yes),
    );
    return () => ended.abort();
  });
</script>

{#if stream}
  <span class="text-sm whitespace-nowrap" role="status" aria-label="Streaming">
    {#if stream.live && connected}
      <span aria-hidden="true">▸</span> quotes every {stream.every_seconds < 120
        ? `${stream.every_seconds} s`
        : `${Math.round(stream.every_seconds / 60)} min`}
    {:else}
      <span class="quiet" title={stream.why}
        >quotes stand still: {connected ? stream.why : 'the service does not answer'}{stream.next && connected
          ? ` until ${moment(stream.next)}`
          : ''}</span
      >
    {/if}
  </span>
{/if}
