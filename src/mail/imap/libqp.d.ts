declare module 'libqp' {
  import type { Transform } from 'node:stream';

  const libqp: { decode(text: string): Buffer };
  export default libqp;
  export const Decoder: new () => Transform;
}
