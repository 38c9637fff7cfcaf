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
