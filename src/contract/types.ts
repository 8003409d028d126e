import type { InferOutput } from 'valibot';
import type * as s from './schemas';

/** What the API gives, as its schemas say it. */
export type Amount = InferOutput<typeof s.Amount>;
export type Target = InferOutput<typeof s.Target>;
export type Settings = InferOutput<typeof s.Settings>;
export type AccountBrief = InferOutput<typeof s.AccountBrief>;
export type SignedIn = InferOutput<typeof s.SignedIn>;
export type Level = InferOutput<typeof s.Level>;
export type FolderLevel = Level['folders'][number];
export type ScanState = InferOutput<typeof s.Scan>;
export type ScanStage = ScanState['stage'];
/** Why work is not being done now. */
export type Wait = NonNullable<ScanState['waits']>;
export type FirstRanked = InferOutput<typeof s.FirstRanked>;
export type SearchState = InferOutput<typeof s.Search>;
export type Message = InferOutput<typeof s.Message>;
export type MessageDetails = InferOutput<typeof s.MessageDetails>;
export type NewestMessage = InferOutput<typeof s.NewestMessage>;
export type TrashState = InferOutput<typeof s.Trash>;
export type TrashGroup = TrashState['groups'][number];
export type LedgerHead = InferOutput<typeof s.LedgerHead>;
export type LedgerCheck = InferOutput<typeof s.LedgerCheck>;
export type Guard = InferOutput<typeof s.Guard>;
export type LotMessage = InferOutput<typeof s.LotMessage>;
export type Decision = InferOutput<typeof s.Decision>;
export type SheetReading = InferOutput<typeof s.SheetReading>;
export type Lot = InferOutput<typeof s.Lot>;
export type Plan = InferOutput<typeof s.Plan>;
export type Run = InferOutput<typeof s.Run>;
export type SavedFilter = InferOutput<typeof s.SavedFilter>;
export type Correction = InferOutput<typeof s.Correction>;
export type Token = InferOutput<typeof s.Token>;
export type Session = InferOutput<typeof s.Session>;
export type FoundServer = InferOutput<typeof s.FoundServer>;
export type DeviceCode = InferOutput<typeof s.DeviceCode>;
export type LotList = InferOutput<typeof s.LotList>;
export type FirstFigures = InferOutput<typeof s.FirstFigures>;
