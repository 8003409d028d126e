import { quoted } from '../criteria/sieve';
import { encodeModifiedUtf7 } from '../mailbox/modified-utf7';
import { type Command, parseSieve, SieveSyntaxError } from './syntax';

/** A rule for mail to come: what a test decides goes into a folder. Never discarded, never refused. */
export interface SieveRule {
  label: string;
  /** A test of Sieve, as core/criteria compiles it. */
  test: string;
  /** Possible names of the folder on the server (`folderNames`). The rule files into the first that exists. */
  folders: readonly string[];
}

/**
 * The names by which a server may know a folder in a rule. RFC 5228 §4.1 has them in UTF-8. Cyrus takes modified UTF-7, as IMAP has
 * it, unless it is configured otherwise (imapd.conf(5), `sieve_utf8fileinto`); it accepts either and does not say which it uses. So a
 * rule gets both names if the server can test whether a folder exists (RFC 5490 §3).
 *
 * @param name in Unicode, its levels parted as the server parts them.
 * @param extensions of Sieve that the server runs, and the name of its program (RFC 5804 §1.7).
 */
export function folderNames(
  name: string,
  { extensions, implementation }: { extensions: readonly string[]; implementation: string },
): string[] {
  const encoded = encodeModifiedUtf7(name);
  if (encoded === name) return [name];
  if (extensions.includes('mailbox')) return [name, encoded];
  return [/\bcyrus\b/i.test(implementation) ? encoded : name];
}

/** Names of the scripts that are ours: the rules, and where the server can include, what runs these and then the person's own. */
export const RULES_SCRIPT = 'tamsel';
export const BOTH_SCRIPT = 'tamsel-and-own';

const BEGIN = '# -- rules of Tamsel begin: change them in Tamsel, not here --';
const END = '# -- rules of Tamsel end --';

/** The rules as a script of their own. What one has filed no later rule looks at. */
export function rulesScript(rules: readonly SieveRule[]): string {
  return [
    '# Rules of Tamsel. Change them in Tamsel: what is changed here is written over.',
    ...requires(rules),
    ...lines(rules),
    '',
  ].join('\r\n');
}

/** A script that runs our rules, then the person's own as it stands (RFC 6609 §3.1). */
export function includingScript(own: string | null): string {
  return [
    '# Written by Tamsel: its rules first, then your own script as it is.',
    'require ["include"];',
    `include :personal ${quoted(RULES_SCRIPT)};`,
    ...(own === null ? [] : [`include :personal ${quoted(own)};`]),
    '',
  ].join('\r\n');
}

/**
 * The person's own script that is included by one of ours; null where it includes none, undefined where it is not as we wrote it.
 */
export function includedOwn(script: string): string | null | undefined {
  let commands: Command[];
  try {
    commands = parseSieve(script);
  } catch (error) {
    if (error instanceof SieveSyntaxError) return undefined;
    throw error;
  }
  if (commands.some(({ name }) => name !== 'require' && name !== 'include')) return undefined;
  const included = commands
    .filter(({ name }) => name === 'include')
    .map(({ args }) => args.flatMap((arg) => (arg.kind === 'texts' ? arg.texts : []))[0]);
  if (included[0] !== RULES_SCRIPT) return undefined;
  return included[1] ?? null;
}

/**
 * The person's own script with our rules in a marked part, behind its `require` (RFC 5228 §3.2 wants these first). An older marked
 * part is replaced whole; without rules there is none.
 *
 * @throws SieveSyntaxError where the script can't be read.
 */
export function withMarkedPart(script: string, rules: readonly SieveRule[]): string {
  const bare = withoutMarkedPart(script);
  if (rules.length === 0) return bare;
  const commands = parseSieve(bare);
  const needed = missingRequires(commands, rules);
  let end = 0;
  for (const command of commands) {
    if (command.name !== 'require') break;
    end = command.to;
  }
  const part = [
    BEGIN,
    ...(needed.length > 0 ? [`require [${needed.map(quoted).join(', ')}];`] : []),
    ...lines(rules),
    END,
  ].join('\r\n');
  return `${bare.slice(0, end)}${end > 0 ? '\r\n' : ''}${part}\r\n${bare.slice(end)}`;
}

/** Whether a script has a part that is ours. */
export function hasMarkedPart(script: string): boolean {
  return script.includes(BEGIN);
}

function withoutMarkedPart(script: string): string {
  const begin = script.indexOf(BEGIN);
  const end = script.indexOf(END);
  if (begin < 0 && end < 0) return script;
  // Marks that somebody has moved tell no more what is ours between them.
  const isOne = begin >= 0 && end > begin && begin === script.lastIndexOf(BEGIN) && end === script.lastIndexOf(END);
  if (!isOne) throw new SieveSyntaxError(Math.max(begin, 0), 'one part of Tamsel with both of its marks');
  const before = script.slice(0, begin);
  return before.replace(/\r\n$/, '') + script.slice(end + END.length).replace(/^\r?\n/, '');
}

function extensionsOf(rules: readonly SieveRule[]): string[] {
  if (rules.length === 0) return [];
  return rules.some(({ folders }) => folders.length > 1) ? ['fileinto', 'mailbox'] : ['fileinto'];
}

function missingRequires(commands: readonly Command[], rules: readonly SieveRule[]): string[] {
  const there = new Set(
    commands
      .filter(({ name }) => name === 'require')
      .flatMap(({ args }) => args.flatMap((arg) => (arg.kind === 'texts' ? arg.texts : []))),
  );
  return extensionsOf(rules).filter((name) => !there.has(name));
}

function requires(rules: readonly SieveRule[]): string[] {
  const names = extensionsOf(rules);
  return names.length > 0 ? [`require [${names.map(quoted).join(', ')}];`] : [];
}

function lines(rules: readonly SieveRule[]): string[] {
  return rules.flatMap(({ label, test, folders }) => [
    `# ${label.replace(/[\r\n]+/g, ' ')}`,
    `if ${test} { ${filing(folders)} }`,
  ]);
}

/** Files into the folder by the first name that exists; where none does, the message stays in the inbox. */
function filing(folders: readonly string[]): string {
  const file = (name: string) => `fileinto ${quoted(name)}; stop;`;
  if (folders.length === 1) return file(folders[0] as string);
  return folders.map((name) => `if mailboxexists ${quoted(name)} { ${file(name)} }`).join(' els');
}
