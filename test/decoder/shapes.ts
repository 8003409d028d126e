/**
 * Responses to FETCH in the shapes of three servers that have nothing in common: one that quotes, one that writes every
 * string as a literal, and one that answers in lower case, with extensions, NIL and what RFC 9051 only just allows.
 */
const literal = (text: string) => `{${Buffer.byteLength(text)}}\r\n${text}`;

const HEADER = 'References: <a.1@post.example> <b.2@post.example>\r\nList-Id: Plots <plots.tidewatch.example>\r\n\r\n';

const quoting = [
  `* 1 FETCH (UID 11 FLAGS (\\Seen $Forwarded) INTERNALDATE "03-Mar-2021 08:15:00 +0100" RFC822.SIZE 48211 ENVELOPE ("Wed, 3 Mar 2021 08:14:58 +0100" "=?UTF-8?Q?Gr=C3=BC=C3=9Fe?= from the \\"lower\\" field" (("Mara Sand" NIL "mara" "tidewatch.example")) (("Mara Sand" NIL "mara" "tidewatch.example")) (("Mara Sand" NIL "mara" "tidewatch.example")) ((NIL NIL "secretary" "saltmarshlane.example")("Pip" NIL "pip" "ferryline.example")) NIL NIL "<b.2@post.example>" "<c.3@post.example>") BODYSTRUCTURE ((("text" "plain" ("charset" "utf-8") NIL NIL "quoted-printable" 812 20 NIL NIL NIL NIL)("text" "html" ("charset" "utf-8") NIL NIL "base64" 4100 54 NIL NIL NIL NIL) "alternative" ("boundary" "=-b1") NIL NIL NIL)("application" "pdf" ("name" "plan.pdf") NIL NIL "base64" 42880 NIL ("attachment" ("filename" "plan.pdf")) NIL NIL) "mixed" ("boundary" "=-b2") NIL NIL NIL) BODY[HEADER.FIELDS (REFERENCES LIST-ID)] ${literal(HEADER)})\r\n`,
  '* 2 FETCH (UID 12 FLAGS () INTERNALDATE " 4-Mar-2021 00:00:01 +0000" RFC822.SIZE 153 ENVELOPE (NIL NIL NIL NIL NIL NIL NIL NIL NIL NIL) BODYSTRUCTURE ("text" "plain" NIL NIL NIL "7bit" 2 1 NIL NIL NIL NIL) BODY[HEADER.FIELDS (REFERENCES LIST-ID)] {2}\r\n\r\n)\r\n',
];

const writingLiterals = [
  `* 3 FETCH (BODYSTRUCTURE (${literal('text')} ${literal('calendar')} (${literal('name*0*')} ${literal("utf-8''D%C3%A9part%20")} ${literal('name*1')} ${literal('one.ics')}) NIL NIL ${literal('8bit')} 900 30 NIL (${literal('attachment')} NIL) NIL NIL) ENVELOPE (${literal('Thu, 4 Mar 2021 09:00:00 GMT')} ${literal('a "quoted" (subject) {7}\r\n folded')} ((${literal('"Quay, Ida"')} NIL ${literal('ida')} ${literal('ferryline.example')})) NIL NIL ((NIL NIL ${literal('crew')} NIL)(NIL NIL ${literal('one')} ${literal('ferryline.example')})(NIL NIL NIL NIL)) NIL NIL NIL ${literal('<d.4@ferryline.example>')}) RFC822.SIZE 2048 INTERNALDATE ${literal('04-Mar-2021 10:00:00 +0100')} FLAGS (\\Answered) UID 13 BODY[HEADER.FIELDS (${literal('REFERENCES')})] ${literal(HEADER)})\r\n`,
];

const extended = [
  '* 4 fetch (uid 14 modseq (90060115194045000) emailid (M6d99ac3275bb4e) threadid nil rfc822.size 99 flags (\\Flagged \\X-Own keyword) internaldate "05-Mar-2021 12:00:00 -0500" x-extra ((("deep" nil) {2}\r\n)( "\\"") 12 ~{3}\r\n\0\x01\x02) envelope ("5 Mar 2021" "Füße ohne Kodierung" ((nil nil "no-reply" "bulk.example")) () nil nil nil nil nil "<e@bulk.example>") bodystructure (("message" "rfc822" nil nil nil "7bit" 700 ("date" "inner" nil nil nil nil nil nil nil nil) ("text" "plain" nil nil nil "7bit" 5 1) 9 nil nil nil nil)("image" "gif" nil "<cid@x>" "desc" "base64" 64 nil ("inline" ("filename" "=?iso-8859-1?q?f=FC=DFe.gif?=")) ("en" "de") "loc" "more" (1 2)) "related") body[header.fields (references)] "References: <q@x>")\r\n',
  '* 4 FETCH (FLAGS (\\Seen) UID 14)\r\n* 31 EXISTS\r\n* 5 EXPUNGE\r\n* VANISHED 1:3,9\r\n* OK [NOTICE] still here {4}\r\n',
];

export const SHAPES: readonly Buffer[] = [quoting, writingLiterals, extended].map((responses) =>
  Buffer.from(responses.join('')),
);
