<script lang="ts">
  let {
    value,
    currencies,
    onchoose,
  }: {
    value: string;
    currencies: string[];
    onchoose: (currency: string) => void;
  } = $props();

  const all = $derived([...new Set(value ? [...currencies, value] : currencies)].filter(Boolean).sort());
</script>

<select
  class="select w-32 select-sm"
  aria-label="Currency"
  title="Convert prices and amounts by reference rates"
  {value}
  onchange={(e) => onchoose(e.currentTarget.value)}
>
  <option value="">own currency</option>
  {#each all as c (c)}<option value={c}>in {c}</option>{/each}
</select>
