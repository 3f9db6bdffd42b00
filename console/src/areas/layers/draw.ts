/**
 * Draws strokes with WebGL: each is a flat ribbon of two triangles. What a stroke is stands in textures, from which
 * its four corners are made: drawn as instances, each stroke would be a drawing of its own where there is no graphics
 * card.
 */

/** How many strokes stand in a row of the textures. */
const row = 1024

const vertex = `#version 300 es
precision highp float;
precision highp int;
uniform highp sampler2D ends;
uniform lowp sampler2D colours;
uniform mat4 view;
uniform float pixel;
uniform float light;
out vec4 shade;
out float across; // pixels from the middle
flat out float reach; // pixels from the middle to the rim
void main() {
  int stroke = gl_VertexID / 4;
  int corner = gl_VertexID & 3;
  ivec2 place = ivec2(stroke % ${row}, stroke / ${row});
  vec4 from = texelFetch(ends, ivec2(2 * place.x, place.y), 0);
  vec3 to = texelFetch(ends, ivec2(2 * place.x + 1, place.y), 0).xyz;
  vec4 colour = texelFetch(colours, place, 0);
  float side = float(corner & 1) * 2.0 - 1.0;
  float end = float(corner >> 1);
  vec2 way = to.xy - from.xy;
  float far = length(way);
  vec2 unit = far > 1e-5 ? way / far : vec2(1.0, 0.0);
  reach = max(from.w / pixel, 1.2) * 0.5;
  across = side * (reach + 0.5);
  vec3 at = mix(from.xyz, to, end);
  at.xy += (vec2(-unit.y, unit.x) * across + unit * (end * 2.0 - 1.0) * reach) * pixel;
  gl_Position = view * vec4(at, 1.0);
  float facing = 0.72 + 0.28 * abs(dot(unit, vec2(0.8, 0.6)));
  shade = vec4(colour.rgb * mix(1.0, facing, light), colour.a);
}`

const fragment = `#version 300 es
precision mediump float;
uniform float least;
in vec4 shade;
in float across;
flat in float reach;
out vec4 colour;
void main() {
  if (shade.a < least) discard;
  float off = abs(across);
  float edge = 1.0 - 0.35 * smoothstep(0.55, 1.0, off / reach);
  float whole = shade.a * clamp(reach + 0.5 - off, 0.0, 1.0); // its rim covers a pixel in part
  colour = vec4(shade.rgb * edge * whole, whole);
}`

/** A layer on the graphics card: where its strokes are and how wide, and their colours. */
export interface Batch { ends: WebGLTexture, colours: WebGLTexture, count: number }

export class Drawing {
  private gl: WebGL2RenderingContext
  private program: WebGLProgram
  private corners: WebGLBuffer
  private cornered = 0 // strokes whose corners are in it
  private at: Record<'ends' | 'colours' | 'view' | 'pixel' | 'light' | 'least', WebGLUniformLocation | null>

  constructor(canvas: HTMLCanvasElement) {
    const gl = canvas.getContext('webgl2', { antialias: false, alpha: true, premultipliedAlpha: true, preserveDrawingBuffer: true })
    if (!gl) throw new Error('This browser cannot draw with WebGL 2: the picture of the file is on the shelf.')
    this.gl = gl
    this.program = gl.createProgram()
    for (const [kind, source] of [[gl.VERTEX_SHADER, vertex], [gl.FRAGMENT_SHADER, fragment]] as const) {
      const shader = gl.createShader(kind)!
      gl.shaderSource(shader, source)
      gl.compileShader(shader)
      if (!gl.getShaderParameter(shader, gl.COMPILE_STATUS)) throw new Error(gl.getShaderInfoLog(shader) ?? 'the drawing cannot be made')
      gl.attachShader(this.program, shader)
    }
    gl.linkProgram(this.program)
    if (!gl.getProgramParameter(this.program, gl.LINK_STATUS)) throw new Error(gl.getProgramInfoLog(this.program) ?? 'the drawing cannot be made')
    const place = (name: string) => gl.getUniformLocation(this.program, name)
    this.at = { ends: place('ends'), colours: place('colours'), view: place('view'), pixel: place('pixel'), light: place('light'), least: place('least') }
    this.corners = gl.createBuffer()
    gl.bindBuffer(gl.ELEMENT_ARRAY_BUFFER, this.corners)
    gl.enable(gl.BLEND)
    gl.blendFunc(gl.ONE, gl.ONE_MINUS_SRC_ALPHA)
  }

  /** Puts strokes on the graphics card: ends of six numbers and a width for each. They have no colour yet. */
  batch(ends: Float32Array, widths: Float32Array, strokes: number): Batch {
    const count = Math.min(strokes, row * this.gl.getParameter(this.gl.MAX_TEXTURE_SIZE))
    const places = new Float32Array(8 * row * Math.ceil(Math.max(count, 1) / row))
    for (let i = 0, from = 0, to = 0; i < count; i++, from += 6, to += 8) {
      places[to] = ends[from]!
      places[to + 1] = ends[from + 1]!
      places[to + 2] = ends[from + 2]!
      places[to + 3] = widths[i]!
      places[to + 4] = ends[from + 3]!
      places[to + 5] = ends[from + 4]!
      places[to + 6] = ends[from + 5]!
    }
    this.corner(count)
    const batch = { ends: this.texture(), colours: this.texture(), count }
    this.gl.bindTexture(this.gl.TEXTURE_2D, batch.ends)
    this.gl.texImage2D(this.gl.TEXTURE_2D, 0, this.gl.RGBA32F, 2 * row, places.length / 8 / row, 0, this.gl.RGBA, this.gl.FLOAT, places)
    return batch
  }

  /** Makes the order in which the corners of so many strokes are drawn. */
  private corner(strokes: number) {
    if (strokes <= this.cornered) return
    this.cornered = Math.max(strokes, 2 * this.cornered)
    const order = new Uint32Array(6 * this.cornered)
    for (let i = 0, from = 0; i < order.length; i += 6, from += 4) {
      order[i] = from
      order[i + 1] = order[i + 4] = from + 1
      order[i + 2] = order[i + 3] = from + 2
      order[i + 5] = from + 3
    }
    this.gl.bufferData(this.gl.ELEMENT_ARRAY_BUFFER, order, this.gl.STATIC_DRAW)
  }

  /** A texture of which every texel is read as it is. */
  private texture(): WebGLTexture {
    const gl = this.gl
    const texture = gl.createTexture()
    gl.bindTexture(gl.TEXTURE_2D, texture)
    for (const which of [gl.TEXTURE_MIN_FILTER, gl.TEXTURE_MAG_FILTER]) gl.texParameteri(gl.TEXTURE_2D, which, gl.NEAREST)
    return texture
  }

  /** Gives strokes their colours, of four bytes each. */
  colour(batch: Batch, colours: Uint8Array) {
    const gl = this.gl
    const rows = Math.ceil(Math.max(batch.count, 1) / row)
    const all = new Uint8Array(4 * row * rows)
    all.set(colours.subarray(0, 4 * batch.count))
    gl.bindTexture(gl.TEXTURE_2D, batch.colours)
    gl.texImage2D(gl.TEXTURE_2D, 0, gl.RGBA, row, rows, 0, gl.RGBA, gl.UNSIGNED_BYTE, all)
  }

  drop(batch: Batch) {
    this.gl.deleteTexture(batch.ends)
    this.gl.deleteTexture(batch.colours)
  }

  /**
   * Draws batches, each up to so many of its strokes; pixel is a pixel's size in mm. Of all but the last,
   * only what is opaque is drawn: what they lay.
   */
  draw(view: Float32Array, pixel: number, deep: boolean, parts: { batch: Batch, count: number }[]) {
    const gl = this.gl
    gl.viewport(0, 0, gl.drawingBufferWidth, gl.drawingBufferHeight)
    gl.clearColor(0, 0, 0, 0)
    gl.clear(gl.COLOR_BUFFER_BIT | gl.DEPTH_BUFFER_BIT)
    gl.useProgram(this.program)
    gl.uniform1i(this.at.ends, 0)
    gl.uniform1i(this.at.colours, 1)
    gl.uniformMatrix4fv(this.at.view, false, view)
    gl.uniform1f(this.at.pixel, pixel)
    gl.uniform1f(this.at.light, deep ? 1 : 0)
    if (deep) {
      gl.enable(gl.DEPTH_TEST)
      gl.depthFunc(gl.LEQUAL)
    } else gl.disable(gl.DEPTH_TEST)
    for (const [i, p] of parts.entries()) {
      if (p.count <= 0) continue
      gl.uniform1f(this.at.least, i < parts.length - 1 ? 0.95 : 0.01)
      this.strokes(p.batch, 0, p.count)
    }
  }

  /** Draws strokes of a batch, from first to before end. */
  private strokes(batch: Batch, first: number, end: number) {
    const gl = this.gl
    gl.activeTexture(gl.TEXTURE1)
    gl.bindTexture(gl.TEXTURE_2D, batch.colours)
    gl.activeTexture(gl.TEXTURE0)
    gl.bindTexture(gl.TEXTURE_2D, batch.ends)
    gl.drawElements(gl.TRIANGLES, 6 * (Math.min(end, batch.count) - first), gl.UNSIGNED_INT, 6 * Uint32Array.BYTES_PER_ELEMENT * first)
  }

  /** Draws more strokes of a batch over what is there: nothing else may have changed. */
  more(batch: Batch, first: number, end: number) {
    this.strokes(batch, first, end)
  }
}

/** How the strokes are looked at: turned about Z and leant, rad; zoom; moved, in mm of the picture. */
export interface View { turned: number, leant: number, zoom: number, x: number, y: number }

/** The matrix of a view of a box, on a canvas of a shape, and how many mm a pixel is. */
export function matrix(v: View, min: number[], max: number[], width: number, height: number): { matrix: Float32Array, pixel: number } {
  const c = [0, 1, 2].map(i => (min[i]! + max[i]!) / 2)
  const size = Math.hypot(max[0]! - min[0]!, max[1]! - min[1]!, v.leant > 0 ? max[2]! - min[2]! : 0) / 2 || 10
  const flat = Math.max((max[0]! - min[0]!) / 2, (max[1]! - min[1]!) / 2, 1)
  const reach = (v.leant > 0 ? size : flat) * 1.08 / v.zoom
  const scale = Math.min(width, height) / 2 / reach // pixels a mm
  const sx = 2 * scale / width, sy = 2 * scale / height
  const ct = Math.cos(v.turned), st = Math.sin(v.turned), cl = Math.cos(v.leant), sl = Math.sin(v.leant)
  const deep = 1 / (4 * size + 1)
  // across = x·ct − y·st; away = x·st + y·ct; up = away·cl + z·sl; near = −away·sl + z·cl
  const row = (a: number, b: number, d: number, k: number, moved: number) => [a * k, b * k, d * k, -(a * c[0]! + b * c[1]! + d * c[2]!) * k + moved * k]
  const rx = row(ct, -st, 0, sx, v.x), ry = row(st * cl, ct * cl, sl, sy, v.y), rz = row(st * sl, ct * sl, -cl, deep, 0)
  return { matrix: new Float32Array([rx[0]!, ry[0]!, rz[0]!, 0, rx[1]!, ry[1]!, rz[1]!, 0, rx[2]!, ry[2]!, rz[2]!, 0, rx[3]!, ry[3]!, rz[3]!, 1]), pixel: 1 / scale }
}
