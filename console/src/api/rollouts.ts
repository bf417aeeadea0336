// Queries of rollouts, reviews and the rules for both.
import { keepPreviousData, useQuery } from '@tanstack/react-query';
import { api, got, isPlan, isRule } from './client';
import { keys } from './queries';

/** All rollouts, those under way first. */
export const useRollouts = () => useQuery({ queryKey: [...keys.rollouts, 'list'], queryFn: () => got(api.GET('/api/v1/rollouts')) });

export const useRollout = (id: string) =>
  useQuery({
    queryKey: [...keys.rollouts, id],
    queryFn: () => got(api.GET('/api/v1/rollouts/{id}', { params: { path: { id } } })),
    retry: false,
    refetchInterval: 15_000, // waits and gates pass by time alone
  });

/** What happened in a rollout as a whole, the newest first. */
export const useRolloutEvents = (id: string) =>
  useQuery({
    queryKey: [...keys.rollouts, id, 'events'],
    queryFn: () => got(api.GET('/api/v1/rollouts/{id}/events', { params: { path: { id }, query: { limit: 60 } } })),
  });

export const useRolloutLaptops = (id: string, wave: string, state: string, enabled = true) =>
  useQuery({
    queryKey: [...keys.rollouts, id, 'laptops', wave, state],
    queryFn: () =>
      got(
        api.GET('/api/v1/rollouts/{id}/laptops', {
          params: { path: { id }, query: { limit: 200, ...(wave ? { wave } : {}), ...(state ? { state: state as never } : {}) } },
        }),
      ),
    placeholderData: keepPreviousData,
    enabled,
  });

/** The rollouts under way that a laptop is in. */
export const useComing = (device: string) =>
  useQuery({
    queryKey: [...keys.rollouts, 'coming', device],
    queryFn: () => got(api.GET('/api/v1/devices/{id}/rollouts', { params: { path: { id: device } } })),
  });

/** All that somebody needs who decides about a change. */
export const useReview = (id: string) =>
  useQuery({
    queryKey: [...keys.changes, id, 'review'],
    queryFn: () => got(api.GET('/api/v1/changes/{id}/review', { params: { path: { id } } })),
    retry: false,
  });

/** Changes whose review waits for somebody. */
export const useReviews = () => useQuery({ queryKey: [...keys.changes, 'reviews'], queryFn: () => got(api.GET('/api/v1/reviews')) });

const objectsOf = (kind: 'rollout_plans' | 'approval_rules') => got(api.GET('/api/v1/estate/{kind}', { params: { path: { kind }, query: { limit: 1000 } } }));

/** Rollout plans as they are live. */
export const useRolloutPlans = () =>
  useQuery({
    queryKey: [...keys.estate, 'objects', 'rollout_plans'],
    queryFn: async () => (await objectsOf('rollout_plans')).items.flatMap((o) => (o.body && isPlan(o.body) ? [o.body] : [])),
  });

/** Approval rules as they are live. */
export const useApprovalRules = () =>
  useQuery({
    queryKey: [...keys.estate, 'objects', 'approval_rules'],
    queryFn: async () => (await objectsOf('approval_rules')).items.flatMap((o) => (o.body && isRule(o.body) ? [o.body] : [])),
  });
