import { parentPort } from 'node:worker_threads';
import { textOfHtml } from './html-to-text';

/** What a thread is asked and answers. */
export interface Asked {
  id: number;
  html: string;
}

export interface Told {
  id: number;
  text: string;
}

parentPort?.on('message', ({ id, html }: Asked) => {
  const told: Told = { id, text: textOfHtml(html) };
  parentPort?.postMessage(told);
});
