/** Live updates: the numbers of runs that changed, as server-sent events. */
type Listener = (run: number) => void;

const listeners = new Set<Listener>();
let source: EventSource | null = null;

function open(): void {
  if (source || listeners.size === 0) return;
  source = new EventSource('/api/events');
  // What changed before the connection stood was not told: 0 stands for any run.
  source.addEventListener('open', () => listeners.forEach((l) => l(0)));
  source.addEventListener('run', (e) => listeners.forEach((l) => l(Number((e as MessageEvent<string>).data))));
}

function close(): void {
  source?.close();
  source = null;
}

// A page that the browser keeps for going back must not hold its connection: a
// browser has only six to a server.
window.addEventListener('pagehide', close);
window.addEventListener('pageshow', open);

/** follow tells a listener the numbers of runs that change, and 0 when any may have, until it is let go. */
export function follow(listener: Listener): () => void {
  listeners.add(listener);
  open();
  return () => {
    listeners.delete(listener);
    if (listeners.size === 0) close();
  };
}
