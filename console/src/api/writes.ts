// Writes to the service. Each has its error and tells whether it is under way; what it alters is read again afterwards.
import { useMutation, type QueryKey } from '@tanstack/react-query';
import { queries } from './queries';

/**
 * A write, which `mutate` runs with what is asked.
 * @param alters the keys of what the write alters, which is read again before `done`
 * @param done what the page does when the write was taken
 */
export function useWrite<A = void, R = unknown>(
  write: (asked: A) => Promise<R>,
  { alters = [], done }: { alters?: QueryKey[]; done?: (answer: R, asked: A) => unknown } = {},
) {
  return useMutation({
    mutationFn: write,
    onSuccess: async (answer, asked) => {
      await Promise.all(alters.map((queryKey) => queries.invalidateQueries({ queryKey })));
      await done?.(answer, asked);
    },
  });
}
