/** Pages of the authorization server, as plain as can be. */
function page(title: string, body: string): string {
  return `<!doctype html><html lang="en"><meta charset="utf-8"><title>${title}</title>
<meta name="viewport" content="width=device-width">
<style>body{font:16px sans-serif;max-width:24em;margin:15vh auto;padding:0 1em}label{display:block;margin:1em 0}</style>
<h1>${title}</h1>${body}</html>`;
}

export function signInPage(hint: string, isWrong: boolean): string {
  return page(
    'Saltmarsh accounts',
    `<p>A program asks to read and change your mail.</p>${isWrong ? '<p role="alert">The name or the password is wrong.</p>' : ''}
<form method="post">
<label>Name <input name="user" value="${escaped(hint)}" autocomplete="username"></label>
<label>Password <input name="password" type="password" autocomplete="current-password"></label>
<button name="choice" value="allow">Allow it</button> <button name="choice" value="refuse">Refuse</button>
</form>`,
  );
}

/** @param form the library's, with the fields that it needs. */
export function devicePage(form: string, isConfirming: boolean, code = ''): string {
  const words = isConfirming
    ? `<p>A device that shows <b>${escaped(code)}</b> asks for your mail.</p>${form}<button form="op.deviceConfirmForm">It is mine</button>`
    : `<p>Type the code that your device shows.</p>${form}<button form="op.deviceInputForm">Go on</button>`;
  return page('Saltmarsh accounts', words);
}

export const DEVICE_DONE = page('Saltmarsh accounts', '<p>Your device may go on.</p>');

export function failedPage(why: string): string {
  return page('Saltmarsh accounts', `<p role="alert">${escaped(why)}</p>`);
}

function escaped(text: string): string {
  return text.replace(/[&<>"]/g, (sign) => `&#${sign.charCodeAt(0)};`);
}
