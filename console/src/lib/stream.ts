// The stream of events, once for all pages of a browser: whoever of them holds a lock listens to the service and tells the
// others. A browser has few connections to one service, and each stream keeps one.

/** What happened: an event of the service, or that events may have been missed. */
export type Happened = { missed: true } | { missed: false; kind: string; repository: string; subject: string };

const listeners = new Set<(h: Happened) => void>();
const others = new BroadcastChannel('tavrin-events');

function tell(h: Happened) {
  listeners.forEach((l) => l(h));
}
others.onmessage = (m: MessageEvent<Happened>) => tell(m.data);

/** An event as CloudEvents 1.0 writes it, as far as the console looks at it. */
type Event = { type: string; subject?: string; data: { repository: string } };

/** How long it waits before it listens again after the service would not have it, in milliseconds. */
const again = 2000;

/** Listens to the service for as long as this page is there, and tells every page of the browser. */
function listen(): Promise<never> {
  const all = (h: Happened) => {
    others.postMessage(h);
    tell(h);
  };
  const open = () => {
    const source = new EventSource('/api/v1/events');
    // What happened before it listened, or while the connection was down, is not missed.
    source.onopen = () => all({ missed: true });
    source.onmessage = (m: MessageEvent<string>) => {
      const e = JSON.parse(m.data) as Event;
      const kind = e.type.replace(/^tavrin\./, '');
      all({ missed: false, kind, repository: e.data.repository, subject: e.subject ?? '' });
    };
    source.onerror = () => {
      if (source.readyState === EventSource.CLOSED) setTimeout(open, again); // else it comes back by itself
    };
  };
  open();
  return new Promise(() => {}); // the lock is held until the page goes
}

let begun = false;

/** Calls f for whatever happens, until what it returns is called. */
export function happens(f: (h: Happened) => void): () => void {
  listeners.add(f);
  if (!begun) {
    begun = true;
    // Where a page has no locks, as over plain http from elsewhere, each listens for itself.
    void (navigator.locks ? navigator.locks.request('tavrin-events', listen) : listen());
  }
  return () => listeners.delete(f);
}
