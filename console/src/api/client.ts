import createClient from 'openapi-fetch';
import type { components, paths } from './schema.gen';

type Schemas = components['schemas'];
export type Bulk = Schemas['Bulk'];
export type NewBulk = Schemas['NewBulk'];
export type Decided = Schemas['DecidedAll'];
export type Decision = Schemas['Decision'];
export type Terms = Schemas['Terms'];
export type TermRule = Schemas['TermRule'];
export type Period = Schemas['Period'];
export type Point = Schemas['Point'];
export type Area = Schemas['Area'];
export type Areas = Schemas['Areas'];
export type Differing = Schemas['Differing'];
export type External = Schemas['External'];
export type ExternalRules = Schemas['ExternalRules'];
export type PublicGroup = Schemas['PublicGroup'];
export type PublicPages = Schemas['PublicPages'];
export type Failure = Schemas['Failure'];
export type Fault = Schemas['Fault'];
export type Finding = Schemas['Finding'];
export type FindingKind = Schemas['FindingKind'];
export type ReviewLimits = Schemas['ReviewLimits'];
export type Round = Schemas['Round'];
export type RoundCounts = Schemas['RoundCounts'];
export type RoundGroup = Schemas['RoundGroup'];
export type RoundQuestion = Schemas['RoundQuestion'];
export type NewRound = Schemas['NewRound'];
export type Group = Schemas['Group'];
export type Post = Schemas['Post'];
export type Delivery = Schemas['Delivery'];
export type HistoryEntry = Schemas['HistoryEntry'];
export type HistoryKeeping = Schemas['HistoryKeeping'];
export type Line = Schemas['Line'];
export type HeldPost = Schemas['HeldPost'];
export type JoinResult = Schemas['JoinResult'];
export type LinkPreview = Schemas['LinkPreview'];
export type OwnPart = Schemas['OwnPart'];
export type LookAlike = Schemas['LookAlike'];
export type Me = Schemas['Me'];
export type Member = Schemas['Member'];
export type Naming = Schemas['Naming'];
export type Nested = Schemas['Nested'];
export type Nesting = Schemas['Nesting'];
export type NewGroup = Schemas['NewGroup'];
export type PeopleList = Schemas['PeopleList'];
export type Person = Schemas['Person'];
export type PersonDetails = Schemas['PersonDetails'];
export type DomainRecord = Schemas['DomainRecord'];
export type SigningKey = Schemas['SigningKey'];
export type PolicyPatch = Schemas['PolicyPatch'];
export type PolicySetting = Schemas['PolicySetting'];
export type PolicySummary = Schemas['PolicySummary'];
export type Waiting = Schemas['Waiting'];
export type Undelivered = Schemas['Undelivered'];
export type Token = Schemas['Token'];
export type Protection = Schemas['Protection'];
export type Rehearsal = Schemas['Rehearsal'];
export type Permitted = Schemas['Permitted'];
export type Abilities = Schemas['Abilities'];
export type Preview = Schemas['Preview'];
export type Proposal = Schemas['Proposal'];
export type Request = Schemas['Request'];
export type RuleMatch = Schemas['RuleMatch'];
export type Ceilings = Schemas['Ceilings'];
export type Sentence = Schemas['Sentence'];
export type StandIn = Schemas['StandIn'];
export type OwnAttribute = Schemas['OwnAttribute'];
export type Domain = Schemas['Domain'];
export type StartingPoint = Schemas['StartingPoint'];

/** Refusal is an answer that says no, with the fields that it is about. */
export class Refusal extends Error {
  readonly status: number;
  readonly problems: Failure['problems'];
  constructor(status: number, failure: Partial<Failure> | undefined) {
    super(failure?.detail ?? 'The service does not answer. Check your connection, then try again.');
    this.status = status;
    this.problems = failure?.problems ?? [];
  }
}

export const api = createClient<paths>({
  baseUrl: '/',
  querySerializer: { array: { style: 'form', explode: false } },
});

/** ask returns the data of an answer, or throws a Refusal. */
export async function ask<T>(
  answer: Promise<{ data?: T; error?: Partial<Failure>; response: Response }>,
): Promise<NonNullable<T>> {
  let got;
  try {
    got = await answer;
  } catch {
    throw new Refusal(0, undefined);
  }
  if (!got.response.ok) throw new Refusal(got.response.status, got.error);
  return got.data as NonNullable<T>;
}
