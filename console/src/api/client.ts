// The typed client of the service, and what it calls a fault.
import createClient from 'openapi-fetch';
import { hasPast, moment } from './moment';
import type { components, paths } from './schema';

type Schemas = components['schemas'];
export type Who = Schemas['Who'];
export type Role = Schemas['Role'];
export type Grant = Schemas['Grant'];
export type Session = Schemas['Session'];
export type AuditRecord = Schemas['AuditRecord'];
export type Verification = Schemas['Verification'];
export type Overview = Schemas['Overview'];
export type Device = Schemas['Device'];
export type DevicePage = Schemas['DevicePage'];
export type SettingAnswer = Schemas['SettingAnswer'];
export type Candidate = Schemas['CandidateAnswer'];
export type NotApplying = Schemas['NotApplyingAnswer'];
export type Delivery = Schemas['Delivery'];
export type DriftRecord = Schemas['DriftRecord'];
export type Fight = Schemas['Fight'];
export type BaselineDoc = Schemas['BaselineDoc'];
export type BaselineItemDoc = Schemas['BaselineItemDoc'];
export type Compliance = Schemas['Compliance'];
export type ComplianceCount = Schemas['ComplianceCount'];
export type ComplianceDay = Schemas['ComplianceDay'];
export type ItemCompliance = Schemas['ItemCompliance'];
export type Conflict = Schemas['Conflict'];
export type ConflictEvent = Schemas['ConflictEvent'];
export type ConflictWay = Schemas['ConflictWay'];
export type InvolvedPolicy = Schemas['InvolvedPolicy'];
export type Question = Schemas['Question'];
export type FoundProblem = Schemas['FoundProblem'];
export type Policy = Schemas['Policy'];
export type PolicyUse = Schemas['PolicyUse'];
export type AlsoSet = Schemas['AlsoSet'];
export type Reach = Schemas['Reach'];
export type Setting = Schemas['Setting'];
export type Group = Schemas['Group'];
export type Change = Schemas['Change'];
export type Edit = Schemas['Edit'];
export type Impact = Schemas['Impact'];
export type ImpactDevice = Schemas['ImpactDevice'];
export type Trial = Schemas['Trial'];
export type TrialEdit = Schemas['TrialEdit'];
export type Fault = Schemas['Fault'];
export type Problem = Schemas['Problem'];
export type Publication = Schemas['Publication'];

export type Rollout = Schemas['Rollout'];
export type RolloutWave = Schemas['RolloutWave'];
export type RolloutAct = Schemas['RolloutAct'];
export type RolloutPlanDoc = Schemas['RolloutPlanDoc'];
export type WaveDoc = Schemas['WaveDoc'];
export type ApprovalRuleDoc = Schemas['ApprovalRuleDoc'];
export type PlanOutcome = Schemas['PlanOutcome'];
export type Review = Schemas['Review'];
export type Demand = Schemas['Demand'];
export type Verdict = Schemas['Verdict'];
export type ReviewComment = Schemas['Comment'];
export type Past = Schemas['Past'];
export type PastSetting = Schemas['PastSetting'];
export type Coming = Schemas['Coming'];
export type SettingUse = Schemas['SettingUse'];
export type Column = Schemas['ColumnDoc'];
export type Finding = Schemas['Finding'];
export type StoredFile = Schemas['File'];
export type Kit = Schemas['KitDoc'];
export type Captured = Schemas['Captured'];
export type PolicyVersion = Schemas['PolicyVersion'];
export type Difference = Schemas['Difference'];
export type Merged = Schemas['Merged'];
export type Summary = Schemas['SummaryPage'];
export type Person = Schemas['Person'];
export type PersonPage = Schemas['PersonPage'];
export type FieldValues = Schemas['Field'];
export type Membership = Schemas['Membership'];
export type SourceEvent = Schemas['SourceEvent'];
export type Origin = Schemas['Origin'];
export type SavedView = Schemas['SavedView'];
export type Unit = Schemas['Unit'];
export type Inheritance = Schemas['Inheritance'];
export type InheritedSetting = Schemas['InheritedSetting'];
export type Arrival = Schemas['Arrival'];
export type Prevailing = Schemas['Prevailing'];
export type UnitMatrix = Schemas['UnitMatrix'];
export type GroupPage = Schemas['GroupPage'];
export type GroupDoc = Schemas['GroupDoc'];
export type GroupTrial = Schemas['GroupTrial'];
export type AudienceReach = Schemas['AudienceReach'];
export type Detached = Schemas['Detached'];
export type Detachment = Schemas['Detachment'];
export type Exception = Schemas['Exception'];
export type ExceptionRequest = Schemas['ExceptionRequest'];
export type Comparison = Schemas['Comparison'];
export type Source = Schemas['Source'];
export type SourceRun = Schemas['SourceRun'];
export type SourceReport = Schemas['SourceReport'];
export type SourceSetUp = Schemas['SourceSetUp'];
export type TablePreview = Schemas['TablePreview'];
export type LeftObject = Schemas['LeftObject'];

/** A file that is kept, named by its SHA-256. */
export type FileValue = Schemas['FileValue'];
export type Cell = Schemas['Cell'];
/** A row of a table: cells by the name of their column. */
export type Row = Schemas['TableRow'];
/** A value of a setting: a bool, a whole number, text, a list of texts, a table or a file. */
export type Value = Schemas['Value'];
/** An entry of a policy: a value alone, or one that is locked or has a note. */
export type Entry = Schemas['EntryDoc'];
/** A policy in the estate format. */
export type PolicyDoc = Schemas['PolicyDoc'];
/** An object of any kind in the estate format. */
export type EstateObject = Schemas['EstateObject'];
export type EditKind = Edit['kind'];
export type Platform = NonNullable<PolicyDoc['platforms']>[number];

/** The one of some words that a text is; undefined: it is none of them. */
export const chosen = <T extends string>(words: readonly T[], text: string | null): T | undefined => words.find((w) => w === text);

export const isFile = (v: unknown): v is FileValue => typeof v === 'object' && v !== null && 'file' in v;
/** Tells a policy from objects of other kinds: no other has both an audience and settings. */
export const isPolicy = (o: EstateObject | undefined): o is PolicyDoc => o !== undefined && 'audience' in o && 'settings' in o;

/** Tells an approval rule from objects of other kinds: no other says how many approve. */
export const isRule = (o: EstateObject): o is ApprovalRuleDoc => 'approvals' in o;
/** Tells a baseline among objects that are plans, rules or baselines: no other has settings. */
export const isBaseline = (o: EstateObject): o is BaselineDoc => 'settings' in o && !('kind' in o);
/** Tells a rollout plan among objects that are plans or rules. */
export const isPlan = (o: EstateObject): o is RolloutPlanDoc => !isRule(o) && !isBaseline(o);

/** What the service refused, with its reasons. */
export class Refusal extends Error {
  constructor(readonly problem: Problem) {
    super(problem.detail || problem.title);
  }
}

/** Somebody was asked, and cancelled: nothing was sent, and there is nothing to report. */
export class NotNow extends Error {}

/** A request that can be sent again: it knows its body, which is read only once from the request itself. */
class RepeatableRequest extends Request {
  constructor(
    input: string,
    private readonly init: RequestInit,
  ) {
    super(input, init);
  }
  again() {
    return new Request(this.url, { ...this.init, headers: this.headers });
  }
  /** The same of a moment that has passed: no change is laid over it. */
  at(moment: string) {
    const url = new URL(this.url);
    url.searchParams.delete('change');
    if (!url.searchParams.has('at')) url.searchParams.set('at', moment);
    return new RepeatableRequest(url.href, { ...this.init, headers: this.headers });
  }
}

export const api = createClient<paths>({ baseUrl: '/', Request: RepeatableRequest as typeof Request });

let touched = Date.now();
for (const input of ['pointerdown', 'keydown', 'wheel']) window.addEventListener(input, () => (touched = Date.now()), { passive: true, capture: true });

/** Tells whether somebody touched this page within some milliseconds. */
export const touchedWithin = (milliseconds: number) => Date.now() - touched <= milliseconds;
/** The header of a request that a page makes by itself: it does not keep the session open. */
export const idle = { 'Zridge-Idle': '1' };

/** Asks somebody to sign in or to give their password again; true: the service knows now who sits here. */
type Ask = () => Promise<boolean>;
let confirm: Ask = () => Promise.resolve(false);
export const onConfirm = (ask: Ask) => {
  confirm = ask;
};

let signInAgain: Ask | undefined;
let signingIn: Promise<boolean> | undefined; // requests that were refused meanwhile wait for the same answer
/** Says who asks somebody to sign in again when their session has ended; undefined: nobody is signed in. */
export const onSessionEnd = (ask: Ask | undefined) => {
  signInAgain = ask;
};

/** Has somebody sign in again whose session has ended. */
const askToSignInAgain: Ask = () => {
  if (!signInAgain) return Promise.resolve(false);
  signingIn ??= signInAgain().finally(() => (signingIn = undefined));
  return signingIn;
};

api.use({
  onRequest({ request, schemaPath }) {
    const at = moment();
    if (at && request instanceof RepeatableRequest && hasPast(request.method, schemaPath)) request = request.at(at);
    else if (at && request.method !== 'GET' && !schemaPath.startsWith('/api/v1/session'))
      throw new Refusal({ type: 'about:blank', title: 'This is the past', status: 409, code: 'past', detail: 'You look at the past. Go back to now first.' });
    // A page that nobody touched for a minute asks by itself: that does not keep the session open.
    if (!touchedWithin(60_000)) for (const [name, value] of Object.entries(idle)) request.headers.set(name, value);
    return request;
  },
  async onResponse({ request, response }) {
    if (!(request instanceof RepeatableRequest) || ![401, 403].includes(response.status)) return response;
    const problem: Partial<Problem> = await response.clone().json();
    if (problem.code === 'confirm' && (await confirm())) return fetch(request.again());
    if (problem.code === 'not-signed-in' && (await askToSignInAgain())) return fetch(request.again());
    return response;
  },
});

/** Gives the data of an answer, or throws its problem as a Refusal. */
export async function got<T>(answer: Promise<{ data?: T; error?: unknown; response: Response }>): Promise<T> {
  const { data, error, response } = await answer;
  if (error !== undefined || !response.ok) {
    const p = (error ?? {}) as Partial<Problem>;
    throw new Refusal({ type: 'about:blank', title: p.title ?? response.statusText, status: response.status, code: p.code ?? 'unknown', ...p });
  }
  return data as T;
}
