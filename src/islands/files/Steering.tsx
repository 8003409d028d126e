import { useChange } from '../../ui/api/account';
import { Refused } from '../../ui/State';
import { text } from '../../ui/text';

type Verb = 'pause' | 'resume' | 'cancel';

/** Work on a set of files that can be paused, taken up again, and cancelled. @param path of it in the API of the account. */
export function useSteering(path: string, stale: string, state: string) {
  const steer = useChange<Verb>(
    (verb) => `${path}/${verb}`,
    'POST',
    () => ({}),
    [stale],
  );
  const going = state === 'queued' || state === 'running' || state === 'checking';
  const rests = state === 'paused' || state === 'failed';
  const act = (verb: Verb) => (
    <button type="button" className="link" disabled={steer.isPending} onClick={() => steer.mutate(verb)}>
      {text.files.verbs[verb]}
    </button>
  );
  return {
    going,
    links: (
      <>
        {going && act('pause')}
        {rests && act('resume')}
        {(going || rests) && act('cancel')}
      </>
    ),
    refused: <Refused error={steer.error} />,
  };
}
