// The places of the console, in the order of the work.
import {
  BookOpen,
  Boxes,
  CalendarClock,
  Database,
  FileClock,
  GitFork,
  KeyRound,
  Laptop,
  LayoutDashboard,
  Network,
  PenLine,
  Ruler,
  ScrollText,
  UserRound,
  Waves,
  type LucideIcon,
} from 'lucide-react';
import type { Right } from './api/queries';

export const places: { to: string; word: string; icon: LucideIcon; right?: Right }[] = [
  { to: '/', word: 'Overview', icon: LayoutDashboard },
  { to: '/devices', word: 'Devices', icon: Laptop },
  { to: '/people', word: 'People', icon: UserRound },
  { to: '/groups', word: 'Groups', icon: Boxes },
  { to: '/units', word: 'Units', icon: Network },
  { to: '/sources', word: 'Sources', icon: Database },
  { to: '/policies', word: 'Policies', icon: ScrollText },
  { to: '/dictionary', word: 'Dictionary', icon: BookOpen },
  { to: '/conflicts', word: 'Conflicts', icon: GitFork },
  { to: '/exceptions', word: 'Exceptions', icon: CalendarClock },
  { to: '/changes', word: 'Changes', icon: PenLine },
  { to: '/rollouts', word: 'Rollouts', icon: Waves },
  { to: '/baselines', word: 'Baselines', icon: Ruler },
  { to: '/audit-log', word: 'Audit log', icon: FileClock, right: 'audit' },
  { to: '/accounts', word: 'Accounts', icon: KeyRound, right: 'accounts' },
];
