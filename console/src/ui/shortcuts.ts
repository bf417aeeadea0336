// Keys that do something by themselves. Whoever speaks to the machine, or holds a key by mistake, turns them off on the page of their access.
const stored = 'single-keys';

/** Tells whether single keys such as / do something. */
export const singleKeys = () => localStorage.getItem(stored) !== 'off';

export const setSingleKeys = (on: boolean) => localStorage.setItem(stored, on ? 'on' : 'off');
