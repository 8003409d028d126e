import { Tokenizer } from 'htmlparser2';

/** Elements whose content is nothing that a person reads (HTML, §15.3.1 "Hidden elements"). */
const HIDDEN: ReadonlySet<string> = new Set(['head', 'script', 'style', 'template', 'title', 'noembed', 'noframes']);
/** Elements that begin and end a line (HTML, §15.3 "Non-replaced elements"). */
const LINES: ReadonlySet<string> = new Set(
  (
    'address article aside blockquote br center dd details div dl dt fieldset figure footer form h1 h2 h3 h4 h5 h6 header hr ' +
    'li main nav ol p pre section summary table tr ul'
  ).split(' '),
);
const BLANK = /[\t\n\f\r \u00a0]/;

/**
 * The text of an HTML document, for reading only: what it gives is shown as text. Each character is looked at a bounded number
 * of times: there is no tree, so that nothing grows with how elements lie in each other.
 */
export function textOfHtml(html: string): string {
  const out = new Lines();
  /** The hidden element that is open, and how many of its name lie in it. */
  let hidden = '';
  let depth = 0;
  const name = (start: number, end: number) => html.slice(start, Math.min(end, start + 20)).toLowerCase();
  const nothing = () => {};
  const tokenizer = new Tokenizer(
    { decodeEntities: true },
    {
      onopentagname(start, end) {
        const tag = name(start, end);
        if (hidden) depth += tag === hidden ? 1 : 0;
        else if (HIDDEN.has(tag)) [hidden, depth] = [tag, 1];
        else if (LINES.has(tag)) out.endLine();
        // A head that is never closed ends where the body begins.
        if (tag === 'body' && hidden === 'head') hidden = '';
      },
      onclosetag(start, end) {
        const tag = name(start, end);
        if (hidden) {
          if (tag === hidden && --depth === 0) hidden = '';
        } else if (LINES.has(tag)) out.endLine();
        else if (tag === 'td' || tag === 'th') out.blank();
      },
      ontext(start, end) {
        if (!hidden) out.add(html.slice(start, end));
      },
      ontextentity(codepoint) {
        if (!hidden) out.add(String.fromCodePoint(codepoint));
      },
      oncdata: nothing,
      oncomment: nothing,
      ondeclaration: nothing,
      onprocessinginstruction: nothing,
      onattribdata: nothing,
      onattribentity: nothing,
      onattribend: nothing,
      onattribname: nothing,
      onopentagend: nothing,
      onselfclosingtag: nothing,
      onend: nothing,
    },
  );
  tokenizer.write(html);
  tokenizer.end();
  return out.text();
}

/** Lines with single blanks, and no more than one empty line between two. */
class Lines {
  private readonly parts: string[] = [];
  private wantsBlank = false;
  private newlines = 0;

  add(text: string): void {
    for (const word of text.split(/([\t\n\f\r \u00a0])/)) {
      if (word === '') continue;
      if (BLANK.test(word)) {
        this.wantsBlank = true;
        continue;
      }
      if (this.parts.length > 0)
        this.parts.push('\n'.repeat(Math.min(2, this.newlines)) || (this.wantsBlank ? ' ' : ''));
      this.parts.push(word);
      this.newlines = 0;
      this.wantsBlank = false;
    }
  }

  blank(): void {
    this.wantsBlank = true;
  }

  endLine(): void {
    this.newlines++;
  }

  text(): string {
    return this.parts.join('');
  }
}
