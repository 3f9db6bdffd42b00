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

/** What stands before a text: → or ←, which a screen reader reads as a word. */
function arrow(sign: string, word: string) {
  const el = element('span', '', sign)
  el.setAttribute('role', 'img')
  el.setAttribute('aria-label', word)
  return el
}

/** One row on the page. */
class Strip {
  readonly line = element('div', 'line')
  private readonly time = element('span', 'time text-medium-emphasis')
  private readonly said = element('span', 'said', arrow('→', 'said'), ' ', element('span', ''))
  private readonly heard = element('span', 'heard', arrow('←', 'heard'), ' ', element('span', ''))
  private drawn: { row?: Row, heard?: Row['heard'], find?: string } = {}
  index = -1

  constructor() { this.line.append(this.time, this.said, this.heard) }

  /** Shows a row at its place; of one that is shown already, nothing is touched. */
  show(row: Row, index: number, find: string, hit: boolean) {
    if (this.index !== index) {
      this.index = index
      this.line.style.top = `${index * height}px`
    }
    this.line.classList.toggle('hit', hit)
    if (this.drawn.row === row && this.drawn.heard === row.heard && this.drawn.find === find) return
    this.drawn = { row, heard: row.heard, find }
    this.time.textContent = second(row.at)
    this.fill(this.said, row.said?.text, find)
    this.fill(this.heard, row.heard?.text, find)
    this.said.title = row.said?.text ?? ''
    this.heard.title = row.of ? `answers ${row.of}` : ''
    this.line.classList.toggle('wrong', row.heard?.kind === 'error')
  }

  private fill(span: HTMLElement, text: string | undefined, find: string) {
    span.hidden = text === undefined
    const words = span.lastChild as HTMLElement
    if (find && text) words.replaceChildren(...marked(cut(text), find))
    else words.textContent = cut(text ?? '')
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
 * pass in a second, and of each picture only those are touched that are new to it. They
 * lie in the page in the order in which they are seen, so that they can be selected.
 */
export class Sheet {
  private strips: Strip[] = [] // in order

  constructor(private readonly page: HTMLElement) {}

  /** Shows rows from first on, as many as lie in a view of some pixels and a little around it. */
  show(rows: Row[], top: number, view: number, find: string, hit: number) {
    this.page.style.height = `${rows.length * height}px`
    const first = Math.max(0, Math.floor(top / height) - 4)
    const end = Math.min(rows.length, Math.ceil((top + view) / height) + 4)
    const spare = this.strips.filter(s => s.index < first || s.index >= end)
    const kept = this.strips.filter(s => s.index >= first && s.index < end)
    this.strips = []
    for (let i = first; i < end; i++) {
      let strip = kept[0]?.index === i ? kept.shift()! : undefined
      if (!strip) {
        strip = spare.pop() ?? new Strip()
        this.page.insertBefore(strip.line, kept[0]?.line ?? null)
      }
      strip.show(rows[i]!, i, find, i === hit)
      this.strips.push(strip)
    }
    for (const s of spare) s.line.remove()
  }
}
