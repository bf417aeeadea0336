// What the service says has changed. A browser allows few connections to one server, so of all tabs one holds the
// stream and tells the others; a page that is left lets go of it at once.

const name = 'zridge-events';

/** That something changed: of a topic, with the id of what it is and, of a change, the version that it is at now. */
export interface Changed {
  topic: string;
  id?: string;
  version?: number;
}

/** Calls onChange for each event, until the function that is given back is called. */
export function watchEvents(onChange: (changed: Changed) => void): () => void {
  const channel = new BroadcastChannel(name);
  channel.onmessage = (e: MessageEvent<Changed>) => onChange(e.data);
  const leaving = new AbortController();
  const hold = () =>
    new Promise<void>((release) => {
      if (leaving.signal.aborted) return release();
      const source = new EventSource('/api/v1/events');
      const tell = (changed: Changed) => {
        onChange(changed);
        channel.postMessage(changed);
      };
      let opened = false;
      source.addEventListener('open', () => {
        if (opened) tell({ topic: 'estate' }); // what happened while the stream was broken is not known
        opened = true;
      });
      source.addEventListener('changed', (e) => tell(JSON.parse(e.data)));
      leaving.signal.addEventListener('abort', () => {
        source.close();
        release();
      });
    });
  // Locks are there on secure pages only, loopback among them; without them each tab holds a stream of its own.
  if (navigator.locks) navigator.locks.request(name, { signal: leaving.signal }, hold).catch(() => undefined);
  else void hold();
  const leave = () => leaving.abort();
  window.addEventListener('pagehide', leave);
  return () => {
    window.removeEventListener('pagehide', leave);
    leave();
    channel.close();
  };
}
