declare module 'libbase64' {
  import type { Transform } from 'node:stream';

  export const Decoder: new () => Transform;
}
