<script lang="ts">
  import { api, ask, Trouble, type Schemas } from '../lib/api';
  import { grouped, readable } from '../lib/format';
  import { complain, say } from '../lib/notes.svelte';
  import { world } from '../lib/world.svelte';
  import Choice from './Choice.svelte';

  let { symbol }: { symbol: string } = $props();

  type Of = 'cash' | 'earnings' | 'dividends' | 'gordon';
  const methods: [Of, string][] = [
    ['cash', 'Free cash flow'],
    ['earnings', 'Earnings'],
    ['dividends', 'Dividends'],
    ['gordon', 'Dividends for ever'],
  ];
  const names: Record<string, string> = {
    base: 'Payment of the past year',
    growth: 'Growth, first stage',
    years: 'Years of it',
    growth2: 'Growth, second stage',
    years2: 'Years of it',
    terminal: 'Growth for ever',
    discount: 'Discount rate',
  };

  let of = $state<Of>('cash');
  let typed = $state<Record<string, string>>({});
  let model = $state<Schemas['Model'] | null>(null);
  const path = $derived({ symbol: symbol.replace('/', '-') });

  $effect(() => {
    void world.changes;
    const query: Record<string, string> = { of };
    for (const [name, text] of Object.entries(typed)) if (text.trim()) query[name] = fraction(name, text);
    ask(api.GET('/api/v1/listings/{symbol}/model', { params: { path, query: query as { of: Of } } })).then(
      (m) => (model = m),
      (error) => {
        if (!(error instanceof Trouble)) throw error;
        if (!error.offline) complain(error);
      },
    );
  });

  const isRate = (name: string) => !['base', 'years', 'years2'].includes(name);
  /** What was typed, as the service takes it: rates are typed in per cent. */
  function fraction(name: string, text: string): string {
    const plain = text.replace('%', '').replace('−', '-').trim();
    return isRate(name) && !Number.isNaN(Number(plain)) ? String(Number(plain) / 100) : plain;
  }
  function shown(a: Schemas['Assumption']): string {
    if (a.value === null || a.value === undefined) return '';
    return isRate(a.name) ? String(Math.round(a.value * 1e6) / 1e4) : String(Math.round(a.value * 1e4) / 1e4);
  }

  async function keep(assumptions: Record<string, number>, done: string, undo?: () => void) {
    try {
      model = await ask(api.PUT('/api/v1/listings/{symbol}/model', { params: { path }, body: { of, assumptions } }));
      typed = {};
      say(done, undo);
    } catch (error) {
      complain(error);
    }
  }
  const yours = $derived(
    Object.fromEntries((model?.assumptions ?? []).filter((a) => a.yours).map((a) => [a.name, a.value ?? 0])) as Record<
      string,
      number
    >,
  );
  const save = () => keep(yours, `The assumptions are kept with ${symbol}.`);
  function reset() {
    const before = yours;
    void keep({}, `The assumptions follow the history of ${symbol} again.`, () => void keep(before, 'As it was.'));
  }

  const money = (x: number | null | undefined) =>
    x === null || x === undefined ? '–' : readable({ v: x, unit: model?.currency ?? '' });
  const rate = (x: number) => `${readable({ v: x, unit: 'percent' })} %`;
</script>

{#if model && !model.refused?.includes('no earnings of its own')}
  <section class="mt-6 mb-8" aria-labelledby="model">
    <div class="flex flex-wrap items-center gap-2">
      <h2 id="model" class="mr-2 font-semibold">What it is worth by a model</h2>
      <Choice label="What is discounted" options={methods} value={of} onchoose={(v) => ([of, typed] = [v, {}])} />
    </div>
    <div class="mt-2 grid gap-6 lg:grid-cols-[2fr_3fr]">
      <form
        onsubmit={(e) => {
          e.preventDefault();
          if (Object.keys(yours).length) void save();
        }}
      >
        <div class="grid grid-cols-[auto_auto_1fr] items-center gap-x-3 gap-y-1 text-sm">
          {#each model.assumptions as a (a.name)}
            <label for="model-{a.name}">{names[a.name]}</label>
            <span class="flex items-center gap-1">
              <input
                id="model-{a.name}"
                class="input input-sm w-24 text-right"
                inputmode="decimal"
                autocomplete="off"
                value={typed[a.name] ?? shown(a)}
                onchange={(e) => (typed = { ...typed, [a.name]: e.currentTarget.value })}
              />
              <span class="quiet w-8 text-xs">{isRate(a.name) ? '%' : a.name === 'base' ? a.unit : ''}</span>
            </span>
            <span class="quiet text-xs">{a.value === null || a.value === undefined ? '○ ' : ''}{a.origin}</span>
          {/each}
        </div>
        <div class="mt-2 flex gap-2">
          <button class="btn btn-sm" type="submit" disabled={!Object.values(typed).some((t) => t.trim())}
            >Keep with {symbol}</button
          >
          {#if model.saved || Object.keys(yours).length}
            <button class="btn btn-ghost btn-sm" type="button" onclick={reset}>Follow the history again</button>
          {/if}
        </div>
      </form>
      <div>
        {#if model.refused}
          <p role="status">It cannot be valued so: {model.refused}.</p>
        {:else if model.value !== undefined}
          <p role="status">
            <span class="text-xl font-semibold">{grouped(model.value ?? 0, 2)}</span>
            {model.currency} a share{#if model.distance !== undefined && model.distance !== null},
              {rate(Math.abs(model.distance))}
              {model.distance < 0 ? 'below' : 'above'} the price of {money(model.price)}{/if}.
          </p>
          <p class="quiet text-sm">
            {#if model.parts && model.parts.stage1 + model.parts.stage2 > 0}Of it {rate(
                model.parts.stage1 / (model.value ?? 1),
              )} comes in the first stage, {rate(model.parts.stage2 / (model.value ?? 1))} in the second, {rate(
                model.parts.terminal / (model.value ?? 1),
              )} after.{/if}
            {#if model.implied_growth !== undefined && model.implied_growth !== null}The price is that of a growth of
              {rate(model.implied_growth)} in the first stage.{/if}
          </p>
          {#if model.grid}
            <div class="mt-2 overflow-x-auto">
              <table class="table table-xs" aria-label="Value under other rates">
                <thead>
                  <tr>
                    <th scope="col">Discounted at</th>
                    {#each model.grid.growths ?? [] as g (g)}
                      <th scope="col" class="text-right">growth {rate(g)}</th>
                    {/each}
                  </tr>
                </thead>
                <tbody>
                  {#each model.grid.values ?? [] as row, i (i)}
                    <tr>
                      <th scope="row" class="font-normal">{rate(model.grid.discounts?.[i] ?? 0)}</th>
                      {#each row ?? [] as x, k (k)}
                        <td class="text-right" class:font-semibold={i === 2 && k === 2}
                          >{x === null || x === undefined ? '–' : grouped(x, 2)}</td
                        >
                      {/each}
                    </tr>
                  {/each}
                </tbody>
              </table>
            </div>
          {/if}
        {/if}
      </div>
    </div>
  </section>
{/if}
