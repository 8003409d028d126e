import * as v from 'valibot';
import * as s from '../../../contract/schemas';
import { FileLot, SpacePictureSeries } from '../../../contract/space';
import type { PictureSeries } from '../../../core/repeats/picture-series';
import { shownPath } from '../../../core/space/path';
import { type Queryable, rows, transaction } from '../../../store/database';
import { tell } from '../../../store/events';
import { createFileLot } from '../../../store/plan/file-lots';
import { type SpaceSeries, spacePicturesOf } from '../../../store/plan/space-pictures';
import { type FileSpace, spaceById } from '../../../store/space/spaces';
import { conflict, invalid } from '../../problem';
import { route } from '../../route';
import { shownLot } from '../spaces/lots';
import { chosenPictures } from './chosen-pictures';
import { pageByPlace } from './page';

/** Pictures of one series that are shown. */
const MOST_SHOWN = 100;

export const listSpacePictureSeries = route({
  method: 'GET',
  path: '/accounts/{account}/repeats/space-pictures',
  summary:
    'Lists series of pictures nearly alike in file spaces, changed within half a day, those first from which most could be won. One of each is proposed to stay; nothing is decided by that.',
  query: v.object({ limit: v.optional(s.wholeNumber(1, 100), '20'), after: v.optional(v.string()) }),
  response: v.object({ series: v.array(SpacePictureSeries), next: v.optional(v.string()) }),
  async handle({ environment: { database }, account, query }) {
    const found = await spacePicturesOf(database, account.id);
    const { page, next } = pageByPlace(found.series, query);
    return { series: await shown(database, account.id, found, page), ...next };
  },
});

interface Picture {
  id: number;
  space: number;
  root: string;
  path: string;
  name: string;
  bytes: number;
  modified: Date;
  width: number;
  height: number;
}

async function shown(db: Queryable, account: number, { rows: all }: SpaceSeries, series: readonly PictureSeries[]) {
  const wanted = series.flatMap(({ rows: members }) => members.slice(0, MOST_SHOWN));
  const found = await rows<Picture>(
    db,
    `select f.id, f.space, s.root, f.path, f.name, f.bytes, f.modified, f.width, f.height
     from unnest($2::bigint[]) as wanted (id) cross join lateral (
       select * from space_file where account = $1 and id = wanted.id offset 0) f
     join space s on s.account = $1 and s.id = f.space`,
    [account, wanted.map((row) => all.file[row] as number)],
  );
  const byId = new Map(found.map((picture) => [picture.id, picture]));
  return series.map(({ best, why, rows: members }) => ({
    best: all.file[best] as number,
    why,
    space: all.author[best] as number,
    pictures: members.slice(0, MOST_SHOWN).flatMap((row) => {
      const picture = byId.get(all.file[row] as number);
      if (!picture) return [];
      const { id, root, path, name, bytes: size, modified, width, height } = picture;
      return [
        {
          ...{ file: id, path: shownPath(path, root), name, size, modified, width, height },
          sharpness: Math.min(1, (all.sharpness[row] as number) / Math.max(1e-9, all.sharpness[best] as number)),
        },
      ];
    }),
  }));
}

export const createSpacePictureLot = route({
  method: 'POST',
  path: '/accounts/{account}/repeats/space-pictures/lots',
  summary:
    'Creates a lot of pictures of one file space for its trash, each looked at and chosen by somebody, by its id. It promises that for each a picture nearly alike stays.',
  body: v.object({ files: v.pipe(s.Ids, v.minLength(1), v.maxLength(1_000)), label: v.optional(s.Label) }),
  status: 201,
  response: FileLot,
  async handle({ environment: { database }, account, body }) {
    return transaction(database, async (client) => {
      await client.query('select 1 from account where id = $1 for no key update', [account.id]);
      const { rows: all, series } = await spacePicturesOf(client, account.id);
      const chosen = chosenPictures(all, series, body.files);
      const spaces = new Set(chosen.map((row) => all.author[row] as number));
      const [id, another] = spaces;
      if (id === undefined || another !== undefined)
        throw invalid('Choose pictures of one file space.', [
          { field: 'files', expected: 'pictures of one file space' },
        ]);
      const space = (await spaceById(client, account.id, id)) as FileSpace;
      const lot = await createFileLot(client, account, space, {
        label: body.label ?? 'pictures nearly alike',
        fate: 'trash',
        named: { ids: chosen.map((row) => all.file[row] as number) },
        promise: 'pictures',
      });
      if (lot === undefined)
        throw conflict('not-as-expected', 'These pictures have changed in the meantime. Look at them again.');
      await tell(client, account.id, 'level', {});
      return shownLot(client, account, lot);
    });
  },
});
