import createClient from 'openapi-fetch';
import type { components, paths } from './schema.gen';

type Schemas = components['schemas'];
export type Group = Schemas['Group'];
export type Member = Schemas['Member'];
export type Me = Schemas['Me'];
export type Person = Schemas['Person'];
export type Picture = Schemas['Picture'];
export type Proposal = Schemas['Proposal'];
export type PolicyPatch = Schemas['PolicyPatch'];
export type NewGroup = Schemas['NewGroup'];
export type Decision = Schemas['Decision'];
export type Shift = Schemas['Shift'];
export type StandIn = Schemas['StandIn'];
export type Fault = Schemas['Fault'];
export type Expiry = Schemas['Expiry'];
export type ExpiryEffect = Schemas['ExpiryEffect'];
export type HistoryEntry = Schemas['HistoryEntry'];
export type Added = Schemas['Added'];
export type Roster = Schemas['Roster'];
export type PeopleList = Schemas['PeopleList'];
export type RuleEffect = Schemas['RuleEffect'];
export type Request = Schemas['Request'];
export type Offer = Schemas['Offer'];
export type StartingPoint = Schemas['StartingPoint'];
export type Naming = Schemas['Naming'];
export type PersonDetails = Schemas['PersonDetails'];
export type ImportResult = Schemas['ImportResult'];
export type LookAlike = Schemas['LookAlike'];
export type Failure = Schemas['Failure'];

/** Refusal is an answer that says no, with the fields that it is about. */
export class Refusal extends Error {
  readonly status: number;
  readonly problems: Failure['problems'];
  constructor(status: number, failure: Partial<Failure> | undefined) {
    super(failure?.detail ?? 'The service does not answer. Check your connection, then try again.');
    this.status = status;
    this.problems = failure?.problems ?? [];
  }
  /** about returns what the answer says of a field, or undefined. */
  about(field: string): string | undefined {
    return this.problems.find((p) => p.field === field)?.says;
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
