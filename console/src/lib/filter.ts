/** What a filter of a list can ask about, as the service describes it. */
export type Attribute = {
  name: string;
  label: string;
  kind: 'text' | 'boolean' | 'moment' | 'number' | 'day' | 'choice';
  many: boolean;
  operators: string[];
  choices?: string[];
};

/** One comparison: an attribute, an operator, and what it is compared with, none for pr. */
export type Comparison = { name: string; operator: string; value: string };

/**
 * parts takes a filter apart where it is joined by and: a part is a comparison, or what stands in parentheses. It is
 * for showing a filter; what it means is the service's to say.
 */
export function parts(filter: string): string[] {
  const out: string[] = [];
  let begun = 0;
  let depth = 0;
  let quoted = false;
  for (let i = 0; i < filter.length; i++) {
    const c = filter[i] ?? '';
    if (quoted) {
      if (c === '\\') i++;
      else if (c === '"') quoted = false;
    } else if (c === '"') quoted = true;
    else if (c === '(' || c === '[') depth++;
    else if (c === ')' || c === ']') depth--;
    else if (depth === 0 && /^\sand\s/i.test(filter.slice(i, i + 5))) {
      out.push(filter.slice(begun, i).trim());
      begun = i + 5;
      i += 4;
    } else if (depth === 0 && /^\sor\s/i.test(filter.slice(i, i + 4))) {
      return [filter.trim()]; // or binds less: the whole is one part
    }
  }
  out.push(filter.slice(begun).trim());
  return out.filter((p) => p !== '');
}

/** join makes one filter of parts. */
export const join = (all: string[]) =>
  all.map((p) => (all.length > 1 && /\sor\s/i.test(p) && !/^\(.*\)$/s.test(p) ? `(${p})` : p)).join(' and ');

const comparison = /^([\w.:]+)\s+(eq|ne|co|sw|ew|gt|ge|lt|le|pr)(?:\s+(.+))?$/is;

/** read reads a part that is one comparison. */
export function read(part: string): Comparison | undefined {
  const [, name, operator, value] = comparison.exec(part) ?? [];
  if (!name || !operator || (value === undefined) !== (operator.toLowerCase() === 'pr')) return undefined;
  if (value !== undefined && !/^("(?:[^"\\]|\\.)*"|-?\d+|true|false|null)$/.test(value)) return undefined;
  return { name, operator: operator.toLowerCase(), value: value ?? '' };
}

/** write writes a comparison with an attribute; text is what somebody typed or chose. */
export function write(a: Attribute, operator: string, text: string): string {
  if (operator === 'pr') return `${a.name} pr`;
  if (operator === 'absent') return `${a.name} eq null`;
  const bare = a.kind === 'number' || a.kind === 'boolean';
  const value = a.kind === 'moment' && /^\d{4}-\d\d-\d\d$/.test(text) ? `${text}T00:00:00Z` : text;
  return `${a.name} ${operator} ${bare ? value : JSON.stringify(value)}`;
}

const same = { eq: 'is', ne: 'is not', pr: 'is filled in' };
const order = {
  text: { gt: 'is after', ge: 'is from', lt: 'is before', le: 'is up to' },
  day: { gt: 'is after', ge: 'is not before', lt: 'is before', le: 'is not after' },
  number: { gt: 'is more than', ge: 'is at least', lt: 'is less than', le: 'is at most' },
  choice: { gt: 'is wider than', ge: 'is at least', lt: 'is narrower than', le: 'is at most' },
};

/** operators are the words for what a comparison does, by the kind of the attribute. */
export function operators(a: Attribute): [operator: string, words: string][] {
  const words: Record<string, string> = {
    ...same,
    co: 'contains',
    sw: 'begins with',
    ew: 'ends with',
    ...(a.kind === 'moment' ? order.day : a.kind === 'boolean' ? {} : order[a.kind]),
  };
  const known = a.operators.filter((o) => words[o]).map((o): [string, string] => [o, words[o] ?? o]);
  return a.kind === 'number' || a.kind === 'boolean'
    ? known.filter(([o]) => o !== 'pr')
    : [...known, ['absent', 'is not filled in']];
}

/** inWords says a part of a filter, the part itself where it is more than a comparison. */
export function inWords(part: string, attributes: Attribute[]): string {
  const c = read(part);
  const a =
    c && attributes.find((x) => x.name.toLowerCase() === c.name.toLowerCase() || x.name === `${c.name}.address`);
  if (!c || !a) return part;
  if (c.value === 'null') return `${a.label} is ${c.operator === 'eq' ? 'not ' : ''}filled in`;
  const words = operators(a).find(([o]) => o === c.operator)?.[1] ?? c.operator;
  const value = c.value.startsWith('"') ? (JSON.parse(c.value) as string) : c.value;
  const shown =
    a.kind === 'boolean' ? (value === 'true' ? 'yes' : 'no') : a.kind === 'moment' ? value.slice(0, 10) : value;
  return `${a.label} ${words}${c.operator === 'pr' ? '' : ` ${shown}`}`;
}
