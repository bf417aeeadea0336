// The typed client of the service, and what it calls a fault.
import createClient from 'openapi-fetch';
import type { components, paths } from './schema';

type Schemas = components['schemas'];
export type Who = Schemas['Who'];
export type Overview = Schemas['Overview'];
export type Device = Schemas['Device'];
export type DevicePage = Schemas['DevicePage'];
export type SettingAnswer = Schemas['SettingAnswer'];
export type Candidate = Schemas['CandidateAnswer'];
export type NotApplying = Schemas['NotApplyingAnswer'];
export type Delivery = Schemas['Delivery'];
export type Conflict = Schemas['Conflict'];
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
export type Trial = Schemas['Trial'];
export type TrialEdit = Schemas['TrialEdit'];
export type Fault = Schemas['Fault'];
export type Problem = Schemas['Problem'];
export type Publication = Schemas['Publication'];

/** A value of a setting: a bool, a whole number, text or a list of texts. */
export type Value = boolean | number | string | string[];
export type Entry = Value | { value: Value; lock?: boolean; note?: string };
/** A policy in the estate format. */
export interface PolicyDoc {
  id: string;
  title?: string;
  kind: 'configuration' | 'security' | 'encryption';
  state?: 'active' | 'draft' | 'retired';
  priority?: number;
  platforms?: string[];
  owner?: string;
  why?: string;
  labels?: string[];
  settings: Record<string, Entry>;
  audience: { include?: string[]; exclude?: string[]; when?: string };
}

/** What the service refused, with its reasons. */
export class Refusal extends Error {
  constructor(readonly problem: Problem) {
    super(problem.detail || problem.title);
  }
}

export const api = createClient<paths>({ baseUrl: '/' });

/** Gives the data of an answer, or throws its problem as a Refusal. */
export async function got<T>(answer: Promise<{ data?: T; error?: unknown; response: Response }>): Promise<T> {
  const { data, error, response } = await answer;
  if (error !== undefined || !response.ok) {
    const p = (error ?? {}) as Partial<Problem>;
    throw new Refusal({ type: 'about:blank', title: p.title ?? response.statusText, status: response.status, code: p.code ?? 'unknown', ...p });
  }
  return data as T;
}
