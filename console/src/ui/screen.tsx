// Screens whose code is fetched when they are first shown, so that the first page does not wait for all of them.
import { lazy, type ComponentType } from 'react';
import { Page } from './parts';

const fetches: (() => Promise<unknown>)[] = [];

/** A component of a module that is fetched when it is first shown. */
export function screen<K extends string>(load: () => Promise<Record<K, ComponentType>>, name: K) {
  fetches.push(load);
  return lazy((): Promise<{ default: ComponentType }> =>
    load().then(
      (all) => ({ default: all[name] }),
      () => ({ default: NotFetched }),
    ),
  );
}

/** Fetches all screens once the browser has nothing else to do: each is there when it is asked for, also when the service is away for a while. */
export function fetchScreens() {
  const soon = window.requestIdleCallback ?? ((later: () => void) => setTimeout(later, 1000));
  soon(() => fetches.forEach((load) => void load().catch(() => undefined)));
}

/** Stands where the code of a screen could not be fetched: the service is away, or it has a newer console by now. */
function NotFetched() {
  return (
    <Page title="This page could not be fetched">
      <p className="max-w-prose text-sm">The service did not answer, or it was updated since this page was opened. What you typed and saved is kept.</p>
      <button type="button" className="btn btn-sm mt-4" onClick={() => location.reload()}>
        Load it again
      </button>
    </Page>
  );
}
