declare module 'mailauth/lib/dkim/verify.js' {
  export function dkimVerify(
    input: Buffer,
    options: { minBitLength: number; resolver(name: string, type: string): Promise<string[][]> },
  ): Promise<{
    results: {
      signingDomain: string;
      algo?: string;
      signingHeaders: { keys: string };
      status: { result: string };
      canonBodyLengthLimited: boolean;
    }[];
  }>;
}
