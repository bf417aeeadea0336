// The frame: rail, header, the screens, and the change bar.
import { LogOut, Moon, Search, Sun } from 'lucide-react';
import { Suspense, useEffect, useState } from 'react';
import { Link, NavLink, Route, Routes } from 'react-router';
import { Refusal, type Who } from './api/client';
import { useLiveUpdates } from './api/live';
import { useOverview, useKeyRequests, useWho, type Right } from './api/queries';
import { useReviews, useRollouts } from './api/rollouts';
import { places } from './places';
import { Finder } from './screens/finder';
import { OverviewScreen } from './screens/overview';
import { SignInScreen } from './screens/signin';
import { Announcer } from './ui/announce';
import { OpenChangeProvider } from './ui/change';
import { ConfirmDialog } from './ui/confirm';
import { SessionEnd, signOut } from './ui/session';
import { singleKeys } from './ui/shortcuts';
import { MomentButton, MomentNote } from './ui/moment';
import { Empty, Failed, Loading, Page } from './ui/parts';
import { ChangeBar } from './ui/changebar';
import { setClock } from './ui/words';
import { fetchScreens, screen } from './ui/screen';

// Screens are fetched when they are first shown. The overview is what most sessions begin with.
const ChangeScreen = screen(() => import('./screens/change'), 'ChangeScreen');
const ChangesScreen = screen(() => import('./screens/changes'), 'ChangesScreen');
const ConflictsScreen = screen(() => import('./screens/conflicts'), 'ConflictsScreen');
const ApprovalRulesScreen = screen(() => import('./screens/rules'), 'ApprovalRulesScreen');
const RolloutsScreen = screen(() => import('./screens/rollouts'), 'RolloutsScreen');
const RolloutScreen = screen(() => import('./screens/rollouts/rollout'), 'RolloutScreen');
const PlansScreen = screen(() => import('./screens/rollouts/plans'), 'PlansScreen');
const PlanScreen = screen(() => import('./screens/rollouts/plan'), 'PlanScreen');
const PastScreen = screen(() => import('./screens/past'), 'PastScreen');
const DeviceScreen = screen(() => import('./screens/device'), 'DeviceScreen');
const DevicesScreen = screen(() => import('./screens/devices'), 'DevicesScreen');
const BaselinesScreen = screen(() => import('./screens/baselines'), 'BaselinesScreen');
const BaselineScreen = screen(() => import('./screens/baselines/baseline'), 'BaselineScreen');
const KeysScreen = screen(() => import('./screens/keys'), 'KeysScreen');
const CoverageScreen = screen(() => import('./screens/keys/coverage'), 'CoverageScreen');
const DriftScreen = screen(() => import('./screens/drift'), 'DriftScreen');
const EnrolmentScreen = screen(() => import('./screens/enrolment'), 'EnrolmentScreen');
const DictionaryScreen = screen(() => import('./screens/dictionary'), 'DictionaryScreen');
const DefineScreen = screen(() => import('./screens/dictionary/define'), 'DefineScreen');
const SettingScreen = screen(() => import('./screens/dictionary/setting'), 'SettingScreen');
const CompareScreen = screen(() => import('./screens/compare'), 'CompareScreen');
const ExceptionsScreen = screen(() => import('./screens/exceptions'), 'ExceptionsScreen');
const GroupsScreen = screen(() => import('./screens/groups'), 'GroupsScreen');
const GroupScreen = screen(() => import('./screens/groups/group'), 'GroupScreen');
const NewGroupScreen = screen(() => import('./screens/groups/group'), 'NewGroupScreen');
const PeopleScreen = screen(() => import('./screens/people'), 'PeopleScreen');
const PersonScreen = screen(() => import('./screens/people'), 'PersonScreen');
const PoliciesScreen = screen(() => import('./screens/policies'), 'PoliciesScreen');
const PolicyScreen = screen(() => import('./screens/policy'), 'PolicyScreen');
const HistoryScreen = screen(() => import('./screens/policy/history'), 'HistoryScreen');
const NewPolicyScreen = screen(() => import('./screens/policy/new'), 'NewPolicyScreen');
const SummaryScreen = screen(() => import('./screens/policy/summary'), 'SummaryScreen');
const AccountScreen = screen(() => import('./screens/access/account'), 'AccountScreen');
const AccountsScreen = screen(() => import('./screens/access/accounts'), 'AccountsScreen');
const AccessScreen = screen(() => import('./screens/access/own'), 'AccessScreen');
const RolesScreen = screen(() => import('./screens/access/roles'), 'RolesScreen');
const AuditScreen = screen(() => import('./screens/audit'), 'AuditScreen');
const SourcesScreen = screen(() => import('./screens/sources'), 'SourcesScreen');
const NewSourceScreen = screen(() => import('./screens/sources/new'), 'NewSourceScreen');
const SourceScreen = screen(() => import('./screens/sources/source'), 'SourceScreen');
const UnitsScreen = screen(() => import('./screens/units'), 'UnitsScreen');
const GroupInheritsScreen = screen(() => import('./screens/units/inherits'), 'GroupInheritsScreen');
const UnitScreen = screen(() => import('./screens/units/inherits'), 'UnitScreen');
const MatrixScreen = screen(() => import('./screens/units/matrix'), 'MatrixScreen');

export function App() {
  const who = useWho();
  useLiveUpdates(!!who.data && !who.data.factor_needed && !who.data.password_due);
  setClock(who.data?.clock);
  if (who.isPending) return null;
  if (who.error instanceof Refusal && who.error.problem.status === 401 && !who.data) return <SignInScreen />;
  if (who.error && !who.data)
    return (
      <Page title="Zenith Ridge">
        <Failed error={who.error} />
      </Page>
    );
  if (who.data.factor_needed || who.data.password_due) {
    // Nothing else is allowed before another password is chosen, and the second factor is set up.
    return (
      <main id="main">
        <Suspense fallback={<ScreenLoading />}>
          <AccessScreen />
        </Suspense>
        <ConfirmDialog />
      </main>
    );
  }
  return (
    <OpenChangeProvider>
      <Frame who={who.data} />
    </OpenChangeProvider>
  );
}

function Frame({ who }: { who: Who }) {
  const [finding, setFinding] = useState(false);
  useEffect(() => {
    const onKey = (e: KeyboardEvent) => {
      const typing = e.target instanceof HTMLElement && /INPUT|TEXTAREA|SELECT/.test(e.target.tagName);
      if ((e.key === '/' && !typing && singleKeys()) || (e.key === 'k' && (e.ctrlKey || e.metaKey))) {
        e.preventDefault();
        setFinding(true);
      }
    };
    window.addEventListener('keydown', onKey);
    return () => window.removeEventListener('keydown', onKey);
  }, []);
  useEffect(fetchScreens, []);
  return (
    <div className="grid h-full grid-cols-[auto_minmax(0,1fr)] grid-rows-[auto_1fr_auto] print:block print:h-auto">
      <a href="#main" className="btn btn-primary btn-sm sr-only focus:not-sr-only focus:absolute focus:z-50 focus:m-2">
        Skip to the content
      </a>
      <Rail />
      <header className="print:hidden flex h-13 items-center gap-3 border-b border-base-300 bg-base-100 px-5">
        <button type="button" className="btn btn-sm w-80 min-w-0 shrink justify-start border-base-300 font-normal" onClick={() => setFinding(true)}>
          <Search size={15} aria-hidden />
          <span className="quiet min-w-0 flex-1 truncate text-left">Find a setting, policy, device …</span>
          <kbd className="kbd kbd-sm">/</kbd>
        </button>
        <div className="flex-1" />
        <MomentButton />
        <ThemeSwitch />
        <Link to="/access" className="truncate text-sm link-hover link" title="Your access: sessions and password">
          {who.name} <span className="quiet">· {who.role}</span>
        </Link>
        <button type="button" className="btn btn-ghost btn-sm btn-square" aria-label="Sign out" title="Sign out" onClick={signOut}>
          <LogOut size={16} aria-hidden />
        </button>
      </header>
      <main id="main" className="min-h-0 min-w-0 overflow-auto print:overflow-visible" tabIndex={-1}>
        <MomentNote />
        <Suspense fallback={<ScreenLoading />}>
          <Routes>
            <Route path="/" element={<OverviewScreen />} />
            <Route path="/devices" element={<DevicesScreen />} />
            <Route path="/baselines" element={<BaselinesScreen />} />
            <Route path="/baselines/:id" element={<BaselineScreen />} />
            <Route path="/keys" element={<KeysScreen />} />
            <Route path="/coverage" element={<CoverageScreen />} />
            <Route path="/drift" element={<DriftScreen />} />
            <Route path="/enrolment" element={<EnrolmentScreen />} />
            <Route path="/devices/:id" element={<DeviceScreen />} />
            <Route path="/devices/:id/past" element={<PastScreen />} />
            <Route path="/people" element={<PeopleScreen />} />
            <Route path="/people/:id" element={<PersonScreen />} />
            <Route path="/groups" element={<GroupsScreen />} />
            <Route path="/groups/new" element={<NewGroupScreen />} />
            <Route path="/groups/:id" element={<GroupScreen />} />
            <Route path="/groups/:id/inherits" element={<GroupInheritsScreen />} />
            <Route path="/units" element={<UnitsScreen />} />
            <Route path="/units/matrix" element={<MatrixScreen />} />
            <Route path="/units/:id" element={<UnitScreen />} />
            <Route path="/sources" element={<SourcesScreen />} />
            <Route path="/sources/new" element={<NewSourceScreen />} />
            <Route path="/sources/:id" element={<SourceScreen />} />
            <Route path="/exceptions" element={<ExceptionsScreen />} />
            <Route path="/compare" element={<CompareScreen />} />
            <Route path="/policies" element={<PoliciesScreen />} />
            <Route path="/policies/new" element={<NewPolicyScreen />} />
            <Route path="/policies/:id" element={<PolicyScreen />} />
            <Route path="/policies/:id/history" element={<HistoryScreen />} />
            <Route path="/policies/:id/summary" element={<SummaryScreen />} />
            <Route path="/dictionary" element={<DictionaryScreen />} />
            <Route path="/dictionary/define" element={<DefineScreen />} />
            <Route path="/dictionary/:id" element={<SettingScreen />} />
            <Route path="/conflicts" element={<ConflictsScreen />} />
            <Route path="/changes" element={<ChangesScreen />} />
            <Route path="/changes/rules" element={<ApprovalRulesScreen />} />
            <Route path="/changes/:id" element={<ChangeScreen />} />
            <Route path="/rollouts" element={<RolloutsScreen />} />
            <Route path="/rollouts/plans" element={<PlansScreen />} />
            <Route path="/rollouts/plans/:id" element={<PlanScreen />} />
            <Route path="/rollouts/:id" element={<RolloutScreen />} />
            <Route path="/audit-log" element={<AuditScreen />} />
            <Route path="/accounts" element={<AccountsScreen />} />
            <Route path="/accounts/:id" element={<AccountScreen />} />
            <Route path="/roles" element={<RolesScreen />} />
            <Route path="/access" element={<AccessScreen />} />
            <Route
              path="*"
              element={
                <Page title="Nothing here">
                  <Empty
                    action={
                      <Link className="btn btn-sm" to="/">
                        To the overview
                      </Link>
                    }
                  >
                    There is no such page. The link may be old, or a letter is missing.
                  </Empty>
                </Page>
              }
            />
          </Routes>
        </Suspense>
      </main>
      <div className="col-start-2 print:hidden">
        <Announcer />
        <ConfirmDialog />
        <SessionEnd who={who} />
        <ChangeBar />
      </div>
      <Finder open={finding} onClose={() => setFinding(false)} />
    </div>
  );
}

/** What a screen looks like until its code is there. */
function ScreenLoading() {
  return (
    <div className="px-6 py-5">
      <Loading />
    </div>
  );
}

/** The places, in the order of the work. A count is shown only where a person must act. */
function Rail() {
  const o = useOverview().data;
  const rights = useWho().data?.rights ?? [];
  const may = (right: Right) => rights.includes(right);
  const counts: Record<string, number> = {
    Conflicts: o?.conflicts.length ?? 0,
    Changes: (o?.changes.length ?? 0) + (useReviews().data?.filter((r) => r.for !== 'other').length ?? 0),
    Rollouts: useRollouts().data?.filter((r) => r.progress === 'stopped' || r.ready).length ?? 0,
    Exceptions: o?.asked ?? 0,
    'Recovery keys': useKeyRequests(may('recovery-keys')).data?.length ?? 0,
    Sources: (o?.waiting.length ?? 0) + (o?.failed_runs.length ?? 0),
  };
  return (
    <nav
      aria-label="Places"
      className="print:hidden row-span-3 flex w-11 flex-col gap-0.5 border-r border-base-300 bg-base-100 px-1.5 py-3 sm:w-13 sm:px-2 lg:w-44"
    >
      <Link to="/" className="mb-3 flex items-center gap-2 px-2 font-semibold tracking-tight">
        <img src="/mark.svg" alt="" width={22} height={22} />
        <span className="sr-only lg:not-sr-only">Zenith Ridge</span>
      </Link>
      {places
        .filter((p) => may(p.right ?? 'read'))
        .map(({ to, word, icon: Icon }) => (
          <NavLink
            key={to}
            to={to}
            end={to === '/'}
            className={({ isActive }) =>
              `flex items-center gap-2.5 rounded px-2 py-1.5 text-sm ${isActive ? 'bg-primary/12 font-semibold text-primary' : 'hover:bg-base-200'}`
            }
          >
            <Icon size={16} aria-hidden />
            <span className="sr-only flex-1 lg:not-sr-only">{word}</span>
            {counts[word] ? (
              <span
                className={`hidden rounded px-1.5 text-[12px] lg:inline font-semibold tabular-nums ${word === 'Conflicts' || word === 'Rollouts' ? 'bg-warning/15 text-warning' : 'bg-base-200'}`}
              >
                {counts[word]}
              </span>
            ) : null}
          </NavLink>
        ))}
    </nav>
  );
}

function ThemeSwitch() {
  const [dark, setDark] = useState(document.documentElement.dataset.theme === 'night-watch');
  return (
    <button
      type="button"
      className="btn btn-ghost btn-sm btn-square"
      aria-label={dark ? 'Use the light theme' : 'Use the dark theme'}
      title={dark ? 'Light theme' : 'Dark theme'}
      onClick={() => {
        const theme = dark ? 'chart' : 'night-watch';
        document.documentElement.dataset.theme = theme;
        localStorage.setItem('theme', theme);
        setDark(!dark);
      }}
    >
      {dark ? <Sun size={16} aria-hidden /> : <Moon size={16} aria-hidden />}
    </button>
  );
}
