import { createTransport } from 'nodemailer';

/** The server that takes mail for delivery (RFC 6409), as the operator configured it. */
export interface Submission {
  /** `smtp://` or `smtps://`, with name and password where it wants them. */
  url: string;
  /** The address that mail comes from. */
  from: string;
}

export function submissionFrom(variables: NodeJS.ProcessEnv): Submission | undefined {
  const { TAMSEL_SMTP_URL: url, TAMSEL_SMTP_FROM: from } = variables;
  return url && from ? { url, from } : undefined;
}

/** Hands a mail of plain text to the submission server; throws where it is not taken. */
export async function submit(
  submission: Submission,
  mail: { to: string; subject: string; text: string },
): Promise<void> {
  const transport = createTransport(submission.url, {
    from: submission.from,
    // A notice is no reason for an answer (RFC 3834).
    headers: { 'Auto-Submitted': 'auto-generated' },
  });
  try {
    await transport.sendMail(mail);
  } finally {
    transport.close();
  }
}
