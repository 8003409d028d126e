import { Tokenizer } from 'htmlparser2';

/** Where the links of an HTML document lead (HTML, §4.6.2 "Links created by a and area elements"), in order. Nothing is followed. */
export function linksOfHtml(html: string): string[] {
  const found: string[] = [];
  let value: string | undefined;
  const nothing = () => {};
  const tokenizer = new Tokenizer(
    { decodeEntities: true },
    {
      onattribname(start, end) {
        value = end - start === 4 && html.slice(start, end).toLowerCase() === 'href' ? '' : undefined;
      },
      onattribdata(start, end) {
        if (value !== undefined) value += html.slice(start, end);
      },
      onattribentity(codepoint) {
        if (value !== undefined) value += String.fromCodePoint(codepoint);
      },
      onattribend() {
        if (value?.trim()) found.push(value.trim());
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
