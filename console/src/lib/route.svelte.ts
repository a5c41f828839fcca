// The page is its address: every state that is worth a link is in it.

export interface Route {
  page: 'home' | 'list' | 'health' | 'income' | 'across' | 'listing' | 'sources';
  list: string;
  symbol: string;
  query: URLSearchParams;
}

function parse(): Route {
  const parts = location.pathname.split('/').filter(Boolean).map(decodeURIComponent);
  const query = new URLSearchParams(location.search);
  if (parts[0] === 'lists' && parts[1]) {
    const page = parts[2] === 'health' || parts[2] === 'income' || parts[2] === 'across' ? parts[2] : 'list';
    return { page, list: parts[1], symbol: '', query };
  }
  if (parts[0] === 'listings' && parts[1]) return { page: 'listing', list: '', symbol: parts[1], query };
  if (parts[0] === 'sources') return { page: 'sources', list: '', symbol: '', query };
  return { page: 'home', list: '', symbol: '', query };
}

export const route: Route = $state(parse());

function read(): void {
  Object.assign(route, parse());
}

addEventListener('popstate', read);

export function go(path: string, replace = false): void {
  if (replace) history.replaceState(null, '', path);
  else history.pushState(null, '', path);
  read();
}

/** The address with some of its query changed; an empty value takes a key out. */
export function withQuery(changes: Record<string, string>): string {
  // eslint-disable-next-line svelte/prefer-svelte-reactivity -- it does not outlive the call
  const query = new URLSearchParams(location.search);
  for (const [name, value] of Object.entries(changes)) {
    if (value) query.set(name, value);
    else query.delete(name);
  }
  const text = query.toString();
  return location.pathname + (text ? `?${text}` : '');
}

/** The page of one listing; a pair is written with a hyphen. */
export function listingPath(symbol: string): string {
  return `/listings/${encodeURIComponent(symbol.replace('/', '-'))}`;
}

export function listPath(name: string, rest = ''): string {
  return `/lists/${encodeURIComponent(name)}${rest}`;
}

/** Follows a link inside the console without loading the page anew. */
export function followLink(event: MouseEvent): void {
  const link = (event.target as Element).closest('a');
  if (!link || event.metaKey || event.ctrlKey || event.shiftKey || link.target || link.origin !== location.origin)
    return;
  if (link.pathname.startsWith('/api/')) return;
  event.preventDefault();
  go(link.pathname + link.search);
}
