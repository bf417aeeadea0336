// The words of rights, and the queries of accounts, roles and grants.
import { useQuery } from '@tanstack/react-query';
import { api, got, type Grant } from '../../api/client';
import { keys, queries } from '../../api/queries';

/** What each right lets somebody do. */
export const rightWords: Record<string, string> = {
  read: 'Look at everything but the audit log, and try what a change would do',
  write: 'Open changes and edit in them',
  approve: 'Approve changes of others',
  publish: 'Publish changes',
  'publish-urgent': 'Publish a change without review or waves',
  'operate-rollouts': 'Pause, continue and stop rollouts',
  devices: 'Enrol laptops, have them check in, retry settings, retire them',
  'exceptions-approve': 'Decide about exceptions that somebody else asked for',
  'recovery-keys': 'See a recovery key',
  sources: 'Set up sources of people and laptops',
  dictionary: 'Define settings',
  audit: 'Read the audit log',
  accounts: 'Manage accounts, roles and grants',
  service: 'Set up and back up the service',
};

export const accountsKey = [...keys.who, 'accounts'] as const;

/** What was asked of accounts, roles and grants is asked again. */
export const accessAltered = () => queries.invalidateQueries({ queryKey: accountsKey });

export const useAccounts = () => useQuery({ queryKey: accountsKey, queryFn: () => got(api.GET('/api/v1/accounts')) });
export const useRoles = () => useQuery({ queryKey: [...accountsKey, 'roles'], queryFn: () => got(api.GET('/api/v1/roles')) });

export const useAccountRights = (name: string) =>
  useQuery({
    queryKey: [...accountsKey, 'rights', name],
    queryFn: () => got(api.GET('/api/v1/accounts/{name}/rights', { params: { path: { name } } })),
  });

export const useGrants = () => useQuery({ queryKey: [...accountsKey, 'grants'], queryFn: () => got(api.GET('/api/v1/grants')) });

/** The days of a grant. */
export const daysOf = (g: Grant) => [g.from && `from ${g.from}`, g.until && `until ${g.until}`].filter(Boolean).join(' ') || 'for good';
