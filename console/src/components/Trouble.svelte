<script lang="ts">
  import type { Trouble } from '../lib/api';

  let { trouble }: { trouble: Trouble } = $props();
</script>

<div class="m-4 max-w-2xl border-l-4 border-error bg-base-200 p-4" role="alert">
  <p class="font-semibold whitespace-pre-wrap">{trouble.message}</p>
  {#if trouble.hint}<p class="mt-1">{trouble.hint}</p>{/if}
</div>
