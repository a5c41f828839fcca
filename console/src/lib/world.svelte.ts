import { api, ask, Trouble, type Field, type Status, type View, type Watchlist } from './api';
import { follow } from './events';

// What every page shares: the watchlists, the catalogue, the state of the
// service, and a count that goes up whenever anything changed.

export const world = $state({
  lists: [] as Watchlist[],
  fields: [] as Field[],
  views: [] as View[],
  status: null as Status | null,
  changes: 0,
  connected: true,
  ready: false,
  trouble: null as Trouble | null,
});

export async function readLists(): Promise<void> {
  world.lists = (await ask(api.GET('/api/v1/watchlists'))).watchlists;
}

async function readAll(): Promise<void> {
  try {
    const [catalogue, status] = await Promise.all([
      world.fields.length ? null : ask(api.GET('/api/v1/fields')),
      ask(api.GET('/api/v1/status')),
      readLists(),
    ]);
    if (catalogue) {
      world.fields = catalogue.fields;
      world.views = catalogue.views;
    }
    world.status = status;
    world.trouble = null;
    world.ready = true;
  } catch (error) {
    if (error instanceof Trouble) world.trouble = error;
  }
}

/** Changes come in bursts while a refresh runs; they are answered at most this often. */
const calm = 250;

export function live(): () => void {
  const ended = new AbortController();
  let waiting = false;
  const changed = () => {
    if (waiting) return;
    waiting = true;
    setTimeout(() => {
      waiting = false;
      world.changes++;
      void readAll();
    }, calm);
  };
  void readAll();
  void follow('/api/v1/events', ended.signal, changed, (yes) => (world.connected = yes));
  // Sessions open and close, and values go stale, without anything being stored.
  const minute = setInterval(changed, 60_000);
  return () => {
    ended.abort();
    clearInterval(minute);
  };
}

export function fieldOf(id: string): Field | undefined {
  return world.fields.find((f) => f.id === id.split('@')[0]);
}
