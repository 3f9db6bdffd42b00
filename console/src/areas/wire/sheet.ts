import { cut, type Row, second } from './rows'

/** How high a row is, in pixels: each as any other. */
export const height = 24

/** An element, with what it is made of where there is more than a text. */
function element(tag: string, className: string, ...children: (Node | string)[]) {
  const el = document.createElement(tag)
  el.className = className
  el.append(...children)
  return el
}

/** How wide the columns are, in letters: of a fixed width, each as any other. What is heard stands beside what was said where there is room for it. */
export interface Columns { time: number, said: number, heard: number, beside: boolean }

/** A text that fits into so many letters, and fills them if it is to. */
function fitted(text: string, letters: number, fills: boolean): string {
  const short = text.length > letters ? `${text.slice(0, Math.max(letters - 1, 1))}…` : text
  return fills ? short.padEnd(letters) : short
}

/**
 * One row on the page: a line of text in columns that blanks make. Boxes side by side, each
 * cut off at its edge, cost a browser three times as much at hundreds of rows a second.
 */
class Strip {
  readonly line = element('div', 'line')
  private readonly time = element('span', 'time text-medium-emphasis')
  private readonly said = element('span', 'said')
  private readonly heard = element('span', 'heard')
  private drawn: { at?: string, said?: Row['said'], heard?: Row['heard'], of?: string, find?: string, columns?: Columns } = {}
  index = -1

  constructor() { this.line.append(this.time, this.said, this.heard) }

  /** Shows a row at its place; of what is shown already, nothing is touched. */
  show(row: Row, index: number, find: string, hit: boolean, columns: Columns) {
    if (this.index !== index) {
      this.index = index
      this.line.style.top = `${index * height}px`
    }
    this.line.classList.toggle('hit', hit)
    const was = this.drawn
    const anew = was.find !== find || was.columns !== columns
    const at = columns.time ? second(row.at).padEnd(columns.time) : ''
    this.drawn = { at, said: row.said, heard: row.heard, of: row.of, find, columns }
    if (was.at !== at) this.time.textContent = at
    const alone = !row.heard
    if (anew || was.said !== row.said || !was.heard !== alone) {
      this.fill(this.said, '→ ', row.said?.text, alone && columns.beside ? columns.said + columns.heard : columns.said, !alone && columns.beside, find)
      this.said.title = row.said?.text ?? ''
    }
    if (anew || was.heard !== row.heard) {
      this.fill(this.heard, '← ', row.heard?.text, columns.heard, false, find)
      this.line.classList.toggle('wrong', row.heard?.kind === 'error')
    }
    if (was.of !== row.of) this.heard.title = row.of ? `answers ${row.of}` : ''
  }

  private fill(span: HTMLElement, arrow: string, text: string | undefined, letters: number, fills: boolean, find: string) {
    const words = text === undefined ? (fills ? ' '.repeat(letters) : '') : fitted(arrow + cut(text), letters, fills)
    if (find && words) span.replaceChildren(...marked(words, find))
    else span.textContent = words
  }
}

/** A text in pieces, those marked that are looked for. */
function marked(text: string, find: string): (Node | string)[] {
  const out: (Node | string)[] = []
  const lower = text.toLowerCase()
  let from = 0
  for (let at = lower.indexOf(find); at >= 0; at = lower.indexOf(find, from)) {
    out.push(text.slice(from, at), element('mark', '', text.slice(at, at + find.length)))
    from = at + find.length
  }
  out.push(text.slice(from))
  return out
}

/**
 * The rows that are seen, of as many as there are. It is drawn by hand: hundreds of rows
 * pass in a second, and of each picture only those are touched that are new to it. A strip
 * that leaves on one side comes in on the other without leaving its place among the
 * others, since a browser makes anew what is put elsewhere; only where a person reads, and
 * may select, do they lie in the page in the order in which they are seen.
 */
export class Sheet {
  private strips: Strip[] = [] // that of a row is the one of its index modulo their number

  constructor(private readonly page: HTMLElement) {}

  /** Shows the rows that lie in a view of some pixels, and a little around it; passing tells that nobody reads them. */
  show(rows: Row[], top: number, view: number, find: string, hit: number, columns: Columns, passing: boolean) {
    this.page.style.height = `${rows.length * height}px`
    while (this.strips.length < Math.ceil(view / height) + 8) this.strips.push(new Strip())
    const n = this.strips.length
    const first = Math.max(0, Math.min(Math.floor(top / height) - 4, rows.length - n))
    for (let i = first; i < first + n; i++) {
      const strip = this.strips[i % n]!
      const row = rows[i]
      strip.line.hidden = row === undefined
      if (row) strip.show(row, i, find, i === hit, columns)
    }
    if (!passing || this.page.childElementCount !== n) this.order(first)
  }

  /** Lets the strips lie in the page in the order of their rows, from first on. */
  private order(first: number) {
    const n = this.strips.length
    const lines = this.strips.map((_, i) => this.strips[(first + i) % n]!.line)
    const from = Array.prototype.indexOf.call(this.page.children, lines[0])
    if (from > n / 2) this.page.prepend(...lines.slice(0, n - from))
    else if (from > 0) this.page.append(...lines.slice(n - from))
    if (lines.some((line, i) => this.page.children[i] !== line)) this.page.replaceChildren(...lines) // there are more now
  }
}
