/** Live updates: the numbers of runs that changed, as server-sent events. */
type Listener = (run: number) => void;

const listeners = new Set<Listener>();
let source: EventSource | null = null;

/** follow tells a listener about runs that change, until it is let go. */
export function follow(listener: Listener): () => void {
  listeners.add(listener);
  if (!source) {
    source = new EventSource('/api/events');
    source.addEventListener('run', (e) => listeners.forEach((l) => l(Number((e as MessageEvent<string>).data))));
  }
  return () => {
    listeners.delete(listener);
    if (listeners.size === 0) {
      source?.close();
      source = null;
    }
  };
}
