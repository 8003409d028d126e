declare module 'libqp' {
  const libqp: { decode(text: string): Buffer };
  export default libqp;
}
