// What does nothing: entries, policies, groups and exceptions, in words.
import type { ReactNode } from 'react';
import type { Overview } from '../api/client';

export type Lint = Overview['lints'][number];

export const lintKey = (l: Lint) => [l.lint, l.policy, l.setting, l.group, l.exception].join(' ');
export const lintPlace = (l: Lint) => (l.policy ? `/policies/${l.policy}` : l.group ? `/groups/${l.group}` : '/exceptions');

export function lintText(l: Lint): ReactNode {
  const name = <span className="id">{l.group || l.exception || l.policy}</span>;
  switch (l.lint) {
    case 'reaches-nobody':
      return <>{name} reaches nobody</>;
    case 'failing-rule':
      return l.group ? <>The rule of {name} fails, and adds nobody there</> : <>The condition of {name} fails, and counts as not true there</>;
    case 'unused-group':
      return <>Nothing names the group {name}</>;
    case 'expired':
      return <>The exception {name} is over</>;
  }
  return (
    <>
      <span className="id">{l.setting}</span> in {name}{' '}
      {l.lint === 'never-wins'
        ? 'overridden on every laptop'
        : `redundant: ${l.beside?.join(', ') || 'something else'} already ${l.beside && l.beside.length > 1 ? 'set' : 'sets'} this`}
    </>
  );
}
