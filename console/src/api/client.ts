import createClient from 'openapi-fetch'

import type { components, paths } from './schema'

export type Case = components['schemas']['Case']
export type CaseDetail = components['schemas']['CaseDetail']
export type CasePage = components['schemas']['CasePage']
export type Docket = components['schemas']['Docket']
export type MachineDetail = components['schemas']['MachineDetail']
export type MachineSummary = components['schemas']['MachineSummary']
export type State = components['schemas']['State']
export type Link = components['schemas']['Link']
export type Way = components['schemas']['Way']
export type Disk = components['schemas']['Disk']
export type Finding = components['schemas']['Finding']
export type KindShare = components['schemas']['KindShare']
export type Person = components['schemas']['Person']
export type Token = components['schemas']['Token']
export type Rung = components['schemas']['Rung']
export type Climb = components['schemas']['Climb']
export type Run = components['schemas']['Run']
export type Point = components['schemas']['Point']
export type Choice = components['schemas']['Choice']
export type Verdict = components['schemas']['Verdict']
export type Event = components['schemas']['Event']
export type Explanation = components['schemas']['Explanation']
export type Answer = components['schemas']['Answer']
export type Cohort = components['schemas']['Cohort']
export type CohortDetail = components['schemas']['CohortDetail']
export type Outbreak = components['schemas']['Outbreak']
export type MachineCount = components['schemas']['MachineCount']
export type Rollout = components['schemas']['Rollout']
export type RolloutMember = components['schemas']['RolloutMember']
export type SiteRule = components['schemas']['SiteRule']
export type Agent = components['schemas']['Agent']
export type TwinReport = components['schemas']['TwinReport']
export type Reading = Explanation['words'][number]

export const api = createClient<paths>({ baseUrl: '/' })

/** A refusal by the service, with what it said. */
export class Refusal extends Error {
  constructor(
    readonly status: number,
    detail: string,
  ) {
    super(detail)
  }
}

/** Gives the answer, or throws what the service said instead. */
export async function ask<T>(call: Promise<{ data?: T; error?: unknown; response: Response }>): Promise<T> {
  const { data, error, response } = await call
  if (data !== undefined && response.ok) return data
  const problem = error as { detail?: string; title?: string } | undefined
  throw new Refusal(response.status, problem?.detail ?? problem?.title ?? `the service answered ${response.status}`)
}
