import { FileTree } from '../../stand-in/webdav/tree';

/** What happened to a file, and by whom. */
export interface Act {
  actor: 'ours' | 'others';
  op: 'move' | 'remove' | 'put' | 'copy';
  path: string;
  to?: string;
  /** The octets that it was done to. */
  content: string | undefined;
  /** Of what was there before, where it was put over something. */
  over?: string | undefined;
}

/** The files as a trial sees them: every act on them, ours and those of others. */
export class WatchedTree extends FileTree {
  readonly acts: Act[] = [];
  private actor: Act['actor'] = 'ours';

  /** Does something as another program. */
  asOther(act: () => void): void {
    this.actor = 'others';
    act();
    this.actor = 'ours';
  }

  contentOf(path: string): string | undefined {
    return this.files.get(path)?.octets().toString('latin1');
  }

  override move(from: string, to: string): void {
    this.noteAct({ op: 'move', path: from, to, over: this.contentOf(to) });
    super.move(from, to);
  }

  override copy(from: string, to: string): void {
    this.noteAct({ op: 'copy', path: from, to, over: this.contentOf(to) });
    super.copy(from, to);
  }

  override remove(path: string): void {
    if (this.files.has(path)) this.noteAct({ op: 'remove', path });
    super.remove(path);
  }

  override put(path: string, octets: Buffer, type: string): void {
    this.noteAct({ op: 'put', path, over: this.contentOf(path) });
    super.put(path, octets, type);
  }

  private noteAct(act: Omit<Act, 'actor' | 'content'>): void {
    this.acts.push({ ...act, actor: this.actor, content: this.contentOf(act.path) });
  }
}
