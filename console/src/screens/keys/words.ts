// Words and queries of recovery keys.
import { keys } from '../../api/queries';
import type { components } from '../../api/schema';

type Schemas = components['schemas'];
export type FoundLaptop = Schemas['FoundLaptop'];
export type KeyRequest = Schemas['KeyRequest'];
export type KeyHistory = Schemas['KeyHistory'];
export type ShownKey = Schemas['ShownKey'];
export type Volume = Schemas['Volume'];
export type Named = Schemas['Named'];
export type CoverageCounts = Schemas['CoverageCounts'];
export type UnitCoverage = Schemas['UnitCoverage'];
export type CoverageDay = Schemas['CoverageDay'];
export type CoveredLaptop = Schemas['CoveredLaptop'];
export type RecoveryFinding = Schemas['RecoveryFinding'];
export type EscrowRecipient = Schemas['EscrowRecipient'];

export const recoveryKey = [...keys.devices, 'recovery'];
export const requestsKey = [...recoveryKey, 'requests'];
export const recipientsKey = [...recoveryKey, 'recipients'];

/** 123456789012 as 1234 5678 9012. */
export const spaced = (identifier: string) => identifier.replace(/\D/g, '').replace(/(\d{4})(?=\d)/g, '$1 ');

export const titleOf = (n: Named | undefined) => (n ? n.title || n.id : '');

export const stateWords: Record<Volume['state'], string> = {
  plain: 'not encrypted',
  waiting: 'not encrypted yet',
  encrypting: 'being encrypted',
  encrypted: 'encrypted',
  cannot: 'cannot be encrypted',
};

export const startupWords: Record<string, string> = { passphrase: 'a passphrase', chip: 'the security chip', pin: 'a PIN', key: 'a startup key' };

/** The groups of coverage, in the order in which they are read, with what somebody does about each. */
export const groups = [
  { group: 'all', field: 'all', word: 'Laptops', title: 'All laptops' },
  { group: 'demanded', field: 'demanded', word: 'Demanded', title: 'Laptops that policies want encrypted' },
  { group: 'encrypted', field: 'encrypted', word: 'Encrypted', title: 'Encrypted laptops' },
  { group: 'escrowed', field: 'escrowed', word: 'Covered', title: 'Encrypted laptops whose keys are stored' },
  { group: 'not-escrowed', field: 'not_escrowed', word: 'No key stored', title: 'Encrypted laptops of which no key is stored', act: true },
  { group: 'not-encrypted', field: 'not_encrypted', word: 'Not yet', title: 'Laptops that are not encrypted yet', act: true },
  { group: 'cannot', field: 'cannot', word: 'Cannot', title: 'Laptops that cannot be encrypted', act: true },
  { group: 'never-reported', field: 'never_reported', word: 'Not reported', title: 'Laptops that have not reported their disks', act: true },
  { group: 'not-renewed', field: 'not_renewed', word: 'Key shown', title: 'Laptops whose key was shown and not replaced yet', act: true },
  { group: 'too-old', field: 'too_old', word: 'Key too old', title: 'Laptops whose key is older than policies allow', act: true },
  {
    group: 'not-resealed',
    field: 'not_resealed',
    word: 'Other seal',
    title: 'Laptops whose key is not sealed to the recipients that policies name',
    act: true,
  },
] as const;

export type Group = (typeof groups)[number]['group'];

export const findingWords: Record<RecoveryFinding['code'], string> = {
  'no-recipient': 'have to be encrypted, but no escrow recipient is named: they wait for ever',
  'no-escrow': 'have to be encrypted, but their keys are kept nowhere',
  'unknown-recipient': 'seal their keys to a recipient that nobody registered',
  'destroyed-recipient': 'are to seal their keys to a recipient that is destroyed',
  'recipient-due': 'seal their keys to a recipient that is to be replaced',
  'owner-left': 'are encrypted, and their owner has left',
  'not-renewed': 'had a key shown more than a day ago that still opens them',
  'weak-volume': 'have a disk that is weaker than it should be',
};
