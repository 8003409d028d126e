import * as v from 'valibot';
import * as s from '../../../contract/schemas';
import type { PictureSeries } from '../../../core/repeats/picture-series';
import { includes } from '../../../core/sets/ranges';
import { type Queryable, rows } from '../../../store/database';
import { type Pictures, picturesOf } from '../../../store/plan/pictures';
import { twinsOf } from '../../../store/plan/twins';
import { route } from '../../route';
import { chosenPictures } from './chosen-pictures';
import { marked } from './marked';
import { pageByPlace } from './page';
import { goingOf } from './summary';
import { toldMessages } from './told';

/** Pictures of one series that are shown. */
const MOST_SHOWN = 100;

export const listPictureSeries = route({
  method: 'GET',
  path: '/accounts/{account}/repeats/pictures',
  summary:
    'Lists series of pictures nearly alike, by one author within half a day, those first from which most could be won. One of each is proposed to stay; nothing is decided by that.',
  query: v.object({ limit: v.optional(s.wholeNumber(1, 100), '20'), after: v.optional(v.string()) }),
  response: v.object({ series: v.array(s.PictureSeries), next: v.optional(v.string()) }),
  async handle({ environment: { database }, account, query }) {
    const found = await picturesOf(database, account, goingOf(await twinsOf(database, account)));
    const { page, next } = pageByPlace(found.series, query);
    return { series: await shown(database, account.id, found, page), ...next };
  },
});

async function shown(
  db: Queryable,
  account: number,
  { rows: all, guarded }: Pictures,
  series: readonly PictureSeries[],
) {
  const shownRows = series.flatMap(({ rows: members }) => members.slice(0, MOST_SHOWN));
  const messages = await toldMessages(
    db,
    account,
    shownRows.map((row) => all.placement[row] as number),
  );
  const files = await rows<{ id: number; name: string; width: number; height: number }>(
    db,
    `select f.id, f.name, l.width, l.height from unnest($2::bigint[]) as wanted (id)
     join file f on f.account = $1 and f.id = wanted.id join picture_look l on l.account = $1 and l.file = f.id`,
    [account, shownRows.map((row) => all.file[row] as number)],
  );
  const byId = new Map(files.map((file) => [file.id, file]));
  return series.map(({ best, why, rows: members }) => ({
    best: all.file[best] as number,
    why,
    pictures: members.slice(0, MOST_SHOWN).flatMap((row) => {
      const file = byId.get(all.file[row] as number);
      const message = messages.get(all.placement[row] as number);
      if (!file || !message) return [];
      const { id, message: _, ...told } = message;
      return [
        {
          file: file.id,
          message: id,
          ...told,
          name: file.name,
          size: all.size[row] as number,
          width: file.width,
          height: file.height,
          sharpness: Math.min(1, (all.sharpness[row] as number) / Math.max(1e-9, all.sharpness[best] as number)),
          guarded: includes(guarded, id),
        },
      ];
    }),
  }));
}

export const createPictureLot = route({
  method: 'POST',
  path: '/accounts/{account}/repeats/pictures/lots',
  summary:
    'Creates a lot that takes pictures out of their messages which somebody looked at and chose, each by its id. It promises that for each a picture nearly alike stays.',
  body: v.object({ files: v.pipe(s.Ids, v.minLength(1), v.maxLength(1_000)), label: v.optional(s.Label) }),
  status: 201,
  response: s.Lot,
  async handle({ environment: { database }, account, body }) {
    return marked(database, account, undefined, 'files', async (client) => {
      const { rows: all, series } = await picturesOf(client, account, goingOf(await twinsOf(client, account)));
      const chosen = chosenPictures(all, series, body.files);
      return {
        ids: chosen.map((row) => all.file[row] as number),
        bytes: chosen.reduce((sum, row) => sum + (all.size[row] as number), 0),
        label: body.label ?? 'pictures nearly alike',
        fate: 'strip',
        promise: 'pictures',
      };
    });
  },
});
