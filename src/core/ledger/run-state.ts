/** How far a run is. */
export const RUN_STATES = ['queued', 'running', 'paused', 'done', 'cancelled', 'failed'] as const;
export type RunState = (typeof RUN_STATES)[number];
