// A small history router: the address decides which page is shown, and deep links work.

export type Place = { path: string; query: URLSearchParams };

function read(): Place {
  return { path: decodeURI(location.pathname), query: new URLSearchParams(location.search) };
}

let place = $state.raw<Place>(read());

export function here(): Place {
  return place;
}

export function go(to: string) {
  history.pushState(null, '', to);
  place = read();
  scrollTo(0, 0);
}

addEventListener('popstate', () => (place = read()));

// Ordinary links within the console do not load the page anew.
addEventListener('click', (event) => {
  const link = (event.target as Element).closest?.('a');
  const href = link?.getAttribute('href');
  if (!href?.startsWith('/') || link?.target || event.defaultPrevented) return;
  if (event.button !== 0 || event.metaKey || event.ctrlKey || event.shiftKey || event.altKey) return;
  event.preventDefault();
  go(href);
});

/** Matches a path such as "/:house/:name/queue"; returns its parameters, or null. */
export function match(pattern: string, path: string): Record<string, string> | null {
  const want = pattern.split('/');
  const have = path.replace(/\/+$/, '').split('/');
  if (want.length !== have.length) return null;
  const found: Record<string, string> = {};
  for (const [i, part] of want.entries()) {
    const value = have[i] ?? '';
    if (part.startsWith(':')) found[part.slice(1)] = value;
    else if (part !== value) return null;
  }
  return found;
}
