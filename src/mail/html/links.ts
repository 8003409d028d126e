import { Tokenizer } from 'htmlparser2';

/**
 * Where the links of an HTML document lead (HTML, §4.6.2 "Links created by a and area elements"), and the pictures that it shows from
 * elsewhere, in order. Nothing is followed or fetched.
 */
export function linksOfHtml(html: string): string[] {
  const found: string[] = [];
  let value: string | undefined;
  let isPicture = false;
  const nothing = () => {};
  const tokenizer = new Tokenizer(
    { decodeEntities: true },
    {
      onattribname(start, end) {
        const name = html.slice(start, Math.min(end, start + 5)).toLowerCase();
        isPicture = name === 'src';
        value = isPicture || name === 'href' ? '' : undefined;
      },
      onattribdata(start, end) {
        if (value !== undefined) value += html.slice(start, end);
      },
      onattribentity(codepoint) {
        if (value !== undefined) value += String.fromCodePoint(codepoint);
      },
      onattribend() {
        const address = value?.trim() ?? '';
        // What is shown from a part of the message itself is one of its files.
        if (address !== '' && (!isPicture || /^https?:/i.test(address))) found.push(address);
        value = undefined;
      },
      ontext: nothing,
      ontextentity: nothing,
      onopentagname: nothing,
      onopentagend: nothing,
      onselfclosingtag: nothing,
      onclosetag: nothing,
      oncdata: nothing,
      oncomment: nothing,
      ondeclaration: nothing,
      onprocessinginstruction: nothing,
      onend: nothing,
    },
  );
  tokenizer.write(html);
  tokenizer.end();
  return found;
}
