<script lang="ts" generics="T extends string">
  // One of a few, side by side.
  let {
    label,
    options,
    value,
    onchoose,
  }: {
    label: string;
    options: readonly (readonly [T, string])[];
    value: T;
    onchoose: (value: T) => void;
  } = $props();
</script>

<div class="join" role="group" aria-label={label}>
  {#each options as [option, text] (option)}
    <button
      class="btn join-item btn-sm"
      class:btn-primary={value === option}
      aria-pressed={value === option}
      onclick={() => onchoose(option)}>{text}</button
    >
  {/each}
</div>
