import type { Line } from '../../live/traffic'
import { clock } from '../../words/time'

/** What can be left out of the view. */
export type Filter = 'report' | 'acknowledgement' | 'file' | 'ours' | 'error'
export const filters: { value: Filter, title: string }[] = [
  { value: 'ours', title: 'Ours' }, { value: 'file', title: 'File' }, { value: 'acknowledgement', title: 'Acknowledgements' }, { value: 'report', title: 'Reports' }, { value: 'error', title: 'Errors' },
]

/** A line that was said, and beside it the first that answers it; or one of them alone. */
export interface Row { at: string, said?: Line, heard?: Line, of?: string }

/** The host's own questions, which come every second. */
const upkeep = /^(N\d+ )?(M(105|114|154|155)\b|M118 q\d+\.|G4 P\d+)|^(echo:)?q\d+\.$/

function sort(l: Line): Filter {
  if (upkeep.test(l.text)) return 'report'
  return l.kind === 'answer' ? 'ours' : l.kind
}

/** Longer lines are cut where they are shown: a printer may answer with anything. */
const longest = 400
export const cut = (text: string) => text.length > longest ? `${text.slice(0, longest)}… (${text.length} bytes)` : text

/** Makes rows of lines, as they come: each answer beside what it answers, where that is wanted and shown. */
export class Rows {
  readonly rows: Row[] = []
  dropped = 0 // of the oldest, since the beginning
  private next = 0 // sequence number
  private readonly open = new Map<number, Row>()
  private readonly questions = new Set<number>() // whose answers are upkeep, too

  constructor(private readonly wanted: ReadonlySet<Filter>, private readonly beside: boolean) {}

  /** Takes in what is new of a list, most lines of it unless far more wait; says how many are left. */
  take(lines: Line[], most = Infinity): number {
    let from = lines.length
    while (from > 0 && lines[from - 1]!.seq >= this.next) from--
    const waiting = lines.length - from
    const end = waiting > 30 * most ? lines.length : Math.min(lines.length, from + Math.max(most, Math.ceil(waiting / 10)))
    for (; from < end; from++) this.add(lines[from]!)
    if (from > 0) this.next = lines[from - 1]!.seq + 1
    const more = this.rows.length - 11_000
    if (more > 0) this.dropped += this.rows.splice(0, more + 1000).length
    return lines.length - from
  }

  private add(l: Line) {
    const kind = sort(l)
    if (l.sent && kind === 'report') this.remember(this.questions, l.seq)
    const answers = l.of !== undefined && this.questions.has(l.of)
    if (!this.wanted.has(kind === 'acknowledgement' && answers ? 'report' : kind)) return
    if (l.sent) {
      const row = { at: l.at, said: l }
      this.rows.push(row)
      this.open.set(l.seq, row)
      if (this.open.size > 512) this.open.delete(this.open.keys().next().value!)
      return
    }
    const row = l.of === undefined ? undefined : this.open.get(l.of)
    if (this.beside && row && !row.heard) row.heard = l
    else this.rows.push({ at: l.at, heard: l, of: row?.said?.text })
  }

  private remember(set: Set<number>, seq: number) {
    set.add(seq)
    if (set.size > 512) set.delete(set.values().next().value!)
  }
}

/** A row as a line of text. */
export function inText(r: Row): string {
  return [r.at, r.said ? `> ${r.said.text}` : '', r.heard ? `< ${r.heard.text}` : ''].filter(Boolean).join('\t')
}

let last = { second: '', text: '' }
/** The time of a row, which is the same for all of one second: putting it into words takes longer than all else. */
export function second(at: string): string {
  const of = at.slice(0, 19)
  if (last.second !== of) last = { second: of, text: clock(at, true) }
  return last.text
}
