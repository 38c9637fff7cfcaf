import { useQuery } from '@tanstack/react-query';
import { useMemo } from 'react';
import { api, ask } from '../api/client';

/** fields are what the directory keeps of a person, with what they are called. */
export const fields: [name: string, label: string][] = [
  ['title', 'Title'],
  ['department', 'Department'],
  ['division', 'Division'],
  ['organization', 'Organisation'],
  ['costCenter', 'Cost centre'],
  ['employeeNumber', 'Employee number'],
  ['manager', "Manager's address"],
  ['userType', 'Kind of employment'],
  ['locality', 'Place'],
  ['streetAddress', 'Street'],
  ['postalCode', 'Postal code'],
  ['region', 'Region'],
  ['country', 'Country'],
  ['phoneNumbers', 'Telephone'],
  ['givenName', 'Given name'],
  ['familyName', 'Family name'],
  ['nickName', 'Nickname'],
  ['preferredLanguage', 'Language'],
  ['locale', 'Locale'],
  ['timezone', 'Time zone'],
  ['roles', 'Roles'],
  ['entitlements', 'Entitlements'],
  ['externalId', 'Identifier elsewhere'],
];
export const fieldLabel = (name: string) =>
  ({ name: 'Name', active: 'Here' })[name] ?? fields.find(([f]) => f === name)?.[1] ?? name;

export type Field = [name: string, label: string];

/** useOwn returns what the organisation keeps of people of its own. */
export const useOwn = () =>
  useQuery({ queryKey: ['naming', 'attributes'], queryFn: () => ask(api.GET('/api/v1/attributes')) });

/** useFields returns everything that the directory keeps of a person: what SCIM has, then what the organisation keeps of its own. */
export function useFields(): Field[] {
  const own = useOwn().data;
  return useMemo(() => [...fields, ...(own?.items ?? []).map((a): Field => [a.name, a.label])], [own]);
}
