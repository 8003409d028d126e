import { type Argument, type Command, parseSieve, SieveSyntaxError, type Test } from './syntax';

/** What a rule of a script does with mail that it takes away. */
export type Lost = { what: 'discard' | 'reject'; when: string[] } | { what: 'trash'; folder: string; when: string[] };

/**
 * What a script throws away already: discards, refuses, or files into the trash. Each with its conditions in words, those around it
 * first. What is not read is no reason to say that nothing is lost.
 *
 * @param trash names of the trash, as scripts have them.
 * @returns undefined where the script can't be read.
 */
export function lostBy(script: string, trash: readonly string[]): Lost[] | undefined {
  try {
    return lostIn(parseSieve(script), [], new Set(trash));
  } catch (error) {
    if (error instanceof SieveSyntaxError) return undefined;
    throw error;
  }
}

function lostIn(commands: readonly Command[], when: readonly string[], trash: ReadonlySet<string>): Lost[] {
  const lost: Lost[] = [];
  // An `else` holds where none of those before it did.
  let before: string[] = [];
  for (const { name, args, block } of commands) {
    const conditions = [...when];
    if (name === 'if') before = [];
    if (name === 'elsif' || name === 'else') conditions.push(...before.map((words) => `not (${words})`));
    if (name === 'if' || name === 'elsif') {
      const words = testsOf(args).map(inWords).join(' and ');
      conditions.push(words);
      before = [...before, words];
    }
    if (name === 'discard') lost.push({ what: 'discard', when: conditions });
    else if (name === 'reject' || name === 'ereject') lost.push({ what: 'reject', when: conditions });
    else if (name === 'fileinto') {
      const folder = textsOf(args).at(-1) ?? '';
      if (trash.has(folder)) lost.push({ what: 'trash', folder, when: conditions });
    }
    if (block) lost.push(...lostIn(block, conditions, trash));
  }
  return lost;
}

const textsOf = (args: readonly Argument[]) => args.flatMap((arg) => (arg.kind === 'texts' ? arg.texts : []));
const testsOf = (args: readonly Argument[]) => args.flatMap((arg) => (arg.kind === 'tests' ? arg.tests : []));
const tagsOf = (args: readonly Argument[]) => args.flatMap((arg) => (arg.kind === 'tag' ? [arg.name] : []));

const MATCHES: Record<string, string> = { is: 'is', contains: 'contains', matches: 'looks like', regex: 'looks like' };

/** A test in words, as far as it is one of RFC 5228 §5; of others its name. */
function inWords({ name, args }: Test): string {
  const lists = args.flatMap((arg) => (arg.kind === 'texts' ? [arg.texts] : []));
  const match = MATCHES[tagsOf(args).find((tag) => tag in MATCHES) ?? 'is'] ?? 'is';
  const said = (texts: readonly string[] | undefined) => (texts ?? []).map((text) => `“${text}”`).join(' or ');
  const inner = testsOf(args);
  switch (name) {
    case 'not':
      return `not (${inner.map(inWords).join(' and ')})`;
    case 'allof':
      return inner.map(inWords).join(' and ');
    case 'anyof':
      return inner.map(inWords).join(' or ');
    case 'true':
      return 'always';
    case 'false':
      return 'never';
    case 'header':
    case 'address':
    case 'envelope':
      return `${(lists[0] ?? []).join(' or ')} ${match} ${said(lists[1])}`;
    case 'exists':
      return `there is ${(lists[0] ?? []).join(' and ')}`;
    case 'size': {
      const number = args.find((arg) => arg.kind === 'number')?.number ?? 0;
      return `larger or smaller than ${number} octets`.replace(
        /larger or smaller/,
        tagsOf(args).includes('over') ? 'larger' : 'smaller',
      );
    }
    default:
      return `${name} ${lists.map(said).join(' ')}`.trim();
  }
}
