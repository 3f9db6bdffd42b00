import { lays, length, roomFor, type Strokes } from './strokes'

/** How much more or less plastic on its way a stroke may lay than those it is merged with. */
const alike = 0.05
/** What filament is rounded to, mm. */
const grain = 0.001

/**
 * Makes one stroke of those that follow each other and look as one: on a line within a tolerance in mm, of one
 * speed, fan, temperature and width. So a curve of many chords costs no more to draw than can be seen of it. Where
 * the next point lies, seen from where the stroke begins, must be inside every cone that the points before it allow
 * (after Reumann and Witkam, with cones in place of a strip), so none of them is farther from the line than that.
 */
export function merge(s: Strokes, tolerance: number): Strokes {
  const out = roomFor(s.count)
  const ends = s.ends
  for (let first = 0; first < s.count;) {
    const o = 6 * first
    const x = ends[o]!, y = ends[o + 1]!, z = ends[o + 2]!
    let far = distance(ends[o + 3]! - x, ends[o + 4]! - y)
    let way = length(s, first)
    let filament = s.filament[first]!
    let next = first + 1
    if (far > 0) {
      const laid = lays(s, first)
      const along = Math.atan2(ends[o + 4]! - y, ends[o + 3]! - x)
      let least = -Math.PI, most = Math.PI // of the cone, about the first stroke's direction
      for (let i = first, turned = 0; ; next++) {
        const at = 6 * i
        // What the point that this stroke ends at allows for those behind it.
        const open = far > tolerance ? Math.asin(tolerance / far) : Math.PI
        least = Math.max(least, turned - open)
        most = Math.min(most, turned + open)
        if (next >= s.count || s.speed[next] !== s.speed[first] || s.fan[next] !== s.fan[first] || s.nozzle[next] !== s.nozzle[first] || lays(s, next) !== laid) break
        const o = 6 * next
        const dx = ends[o + 3]! - x, dy = ends[o + 4]! - y
        const further = distance(dx, dy)
        const step = length(s, next)
        const there = turn(Math.atan2(dy, dx) - along)
        if (further <= far || there < least || there > most || ends[o] !== ends[at + 3] || ends[o + 1] !== ends[at + 4] || Math.abs(ends[o + 5]! - z) > tolerance) break
        if (laid ? Math.abs(s.filament[next]! - filament / way * step) > alike * filament / way * step + grain : s.filament[next] !== 0 || filament !== 0) break
        far = further
        way += step
        filament += s.filament[next]!
        turned = there
        i = next
      }
    }
    const to = 6 * out.count
    for (let c = 0; c < 3; c++) {
      out.ends[to + c] = ends[o + c]!
      out.ends[to + 3 + c] = ends[6 * (next - 1) + 3 + c]!
    }
    out.filament[out.count] = filament
    out.speed[out.count] = s.speed[first]!
    out.fan[out.count] = s.fan[first]!
    out.nozzle[out.count] = s.nozzle[first]!
    out.command[out.count++] = s.command[first]!
    first = next
  }
  return out
}

const distance = (x: number, y: number) => Math.sqrt(x * x + y * y)

/** An angle, rad, as less than half a turn to either side. */
const turn = (a: number) => a > Math.PI ? a - 2 * Math.PI : a < -Math.PI ? a + 2 * Math.PI : a
