/** What docs/api.md says before its calls. */
export const INTRODUCTION = `# The API

The interface uses this API and nothing else. It is JSON over HTTP, below \`/api\`. \`/api/openapi.json\` describes all of it (OpenAPI 3.1); client generators can use its \`operationId\`s. This page is written by \`npm run docs:api\`, which makes every request on it.

- **Times** are RFC 3339 in UTC. **Sizes** are octets. **Folders** are named by their readable path, with \`/\` between levels.
- **\`where\`** is [criteria](criteria.md); empty means everything. **\`scope\`** is \`mail\` (everything outside the trash, the default), \`trash\` or \`all\`. Virtual folders (RFC 6154 \`\\All\`, \`\\Flagged\`) are excluded from totals.
- **Lists and texts** in the answers below are cut at \`…\`.
- **Unknown query parameters** are refused with 422, so that a misspelt filter is never ignored.
- **Scripts** send a token: \`Authorization: Bearer tamsel_…\`. Create one in the settings, or with \`createToken\`. Requests without an \`Origin\` header are scripts and allowed; a foreign \`Origin\` is refused.

With curl:

\`\`\`
curl -H "Authorization: Bearer $TAMSEL_TOKEN" http://127.0.0.1:4321/api/accounts/1/level
curl -H "Authorization: Bearer $TAMSEL_TOKEN" -G http://127.0.0.1:4321/api/accounts/1/messages \\
  --data-urlencode 'where=size > 10 MB'
\`\`\`

With the command, which shows tables, or the answers themselves with \`--json\`. It reads the token from \`TAMSEL_TOKEN\`, and the address of the instance from \`TAMSEL_URL\` (http://127.0.0.1:4321 if not set):

\`\`\`
TAMSEL_TOKEN=tamsel_… ./tamsel api senders --by domain --where 'age > 3y' --limit 20
\`\`\``;

/** What it says after them. */
export const PROBLEMS = `## Problems

Errors are problem details (RFC 9457). \`type\` is one of these, below \`/problems/\`. \`detail\` is a sentence for a person. \`errors\` lists the fields that are wrong, with \`at\` (a character) and \`expected\` where they apply.

| type | status | meaning |
|---|---|---|
| \`no-session\` | 401 | nobody is signed in |
| \`token-not-valid\` | 401 | the token is unknown, revoked or expired |
| \`token-may-not\` | 403 | the token only reads, or tokens are not allowed to do this |
| \`prove-again\` | 403 | confirm your identity first; \`errors\` says how |
| \`foreign-origin\` | 403 | another site sent the request |
| \`not-found\` | 404 | it does not exist, or it belongs to somebody else |
| \`method-not-allowed\` | 405 | \`Allow\` says which methods are |
| \`busy\` | 503 | too much is asked of this mailbox at once; try again soon |
| \`database-away\` | 503 | the database restarts, or another server takes over from it |
| \`too-slow\` | 408, 503 | the body did not arrive within a minute; a query took over two minutes |
| \`not-as-expected\` | 409 | the set is not what \`expect\` says |
| \`nothing-to-do\` | 409 | no message is in the set |
| \`too-many-messages\` | 409 | one download holds 200,000 messages |
| \`other-fate\` | 409 | the lot is for another action |
| \`wrong-state\` | 409 | it can’t be done in this state |
| \`no-trash-folder\` \`roles-not-confirmed\` | 409 | there is no trash folder, or nobody has confirmed which one it is |
| \`repeated-view\` | 409 | the folder is virtual |
| \`hold\` \`built-in\` \`no-hold\` \`lifted\` | 409 | the guard can’t be changed like this |
| \`changed\` | 409 | the folder has changed on the server; scan again |
| \`sign-in-needed\` | 409 | the mail server no longer accepts Tamsel’s sign-in |
| \`no-authorization\` | 409 | no authorization is under way in this browser |
| \`bag-missing\` | 409 | the files of the bag are not on this machine any more |
| \`no-preview\` | 409 | the file can’t be shown; \`detail\` says why |
| \`bag-of-run\` | 409 | a run writes this bag, or puts its messages back; steer the run |
| \`bag-held\` | 409 | the bag is held until a day; it can’t be deleted before, nor held for less |
| \`copy-differs\` | 409 | these are not the octets that were saved |
| \`bags-kept\` | 409 | the archive holds files of this mailbox; delete these first |
| \`search-failed\` | 409 | the mail server could not search |
| \`no-submission-server\` | 409 | this instance can’t send mail |
| \`too-large\` | 413 | the body is above 16 KiB without a session, 16 MiB for a sheet, or 1 MiB otherwise; the connection closes |
| \`unsupported-media-type\` | 415 | the body is not declared as JSON |
| \`no-such-range\` | 416 | the download does not have these octets |
| \`unknown-host\` | 421 | Tamsel does not answer under this name; see \`TAMSEL_ORIGIN\` |
| \`invalid\` | 422 | something in the body or the query is wrong |
| \`criteria\` | 422 | the criteria can’t be read; \`at\` says where |
| \`too-many-attempts\` | 429 | \`Retry-After\` says how long to wait |
| \`mailbox-there\` | 409 | the operator looks after this mailbox already |
| \`operator-locked\` | 409 | the mail server no longer accepts the operator’s password; sign in again as the operator |
| \`too-many-mailboxes\` | 429 | more mailboxes than an operator may look after here |
| \`too-many-streams\` \`too-many-accounts\` \`too-many-mails\` | 429 | over 20 streams of one session or token; more accounts than a session may have; over 20 mails today |
| \`too-many-spaces\` | 409 | an account has 16 file spaces at most |
| \`searching\` | 503 | the mail server is still searching, or words of the archive are still being read; \`Retry-After\` |
| \`no-room-for-accounts\` | 503 | the instance has as many accounts as its operator allows |
| \`unavailable\` | 503 | no database or no worker |
| \`internal\` | 500 | a fault of Tamsel; the log has it under the \`instance\` of the answer |

Signing in fails with 422, and these types say why: \`no-such-host\`, \`address-not-allowed\` (a private address), \`server-not-allowed\` (not on the operator’s list), \`refused\` (the port), \`timed-out\`, \`untrusted-certificate\`, \`no-tls\`, \`plain-text-not-allowed\`, \`password-refused\`, \`token-refused\`, \`authorization-refused\`, \`authorization-unreachable\`, \`no-mechanism\`, \`server-not-proven\`, \`not-imap\`, \`connection-lost\`, \`throttled\`. Calls that need the mail server use the same types with 409.

A file space that can’t be used says so with 422 and one of the same types, or: \`not-dav\` (no file space answers there), \`gone\`, \`forbidden\`, \`unreadable-answer\`, \`command-refused\`.`;
