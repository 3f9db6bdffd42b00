/** Draws strokes with WebGL: each is a flat ribbon, one instance of four corners. */

const vertex = `#version 300 es
in vec3 from;
in vec3 to;
in vec4 colour;
in float width;
uniform mat4 view;
uniform float pixel;
uniform float light;
out vec4 shade;
out float across;
void main() {
  float side = float(gl_VertexID & 1) * 2.0 - 1.0;
  float end = float(gl_VertexID >> 1);
  vec2 way = to.xy - from.xy;
  float reach = length(way);
  vec2 unit = reach > 1e-5 ? way / reach : vec2(1.0, 0.0);
  float wide = max(width, pixel);
  vec3 at = mix(from, to, end);
  at.xy += vec2(-unit.y, unit.x) * side * wide * 0.5 + unit * (end * 2.0 - 1.0) * wide * 0.5;
  gl_Position = view * vec4(at, 1.0);
  float facing = 0.72 + 0.28 * abs(dot(unit, vec2(0.8, 0.6)));
  shade = vec4(colour.rgb * mix(1.0, facing, light), colour.a);
  across = side;
}`

const fragment = `#version 300 es
precision mediump float;
uniform float least;
in vec4 shade;
in float across;
out vec4 colour;
void main() {
  if (shade.a < least) discard;
  float edge = 1.0 - 0.35 * smoothstep(0.55, 1.0, abs(across));
  colour = vec4(shade.rgb * edge * shade.a, shade.a);
}`

/** A layer on the graphics card. */
export interface Batch { vao: WebGLVertexArrayObject, buffers: WebGLBuffer[], count: number }

const names = ['from', 'to', 'colour', 'width']

export class Drawing {
  private gl: WebGL2RenderingContext
  private program: WebGLProgram
  private at: Record<'view' | 'pixel' | 'light' | 'least', WebGLUniformLocation | null>

  constructor(canvas: HTMLCanvasElement) {
    const gl = canvas.getContext('webgl2', { antialias: window.devicePixelRatio < 1.5, alpha: true, premultipliedAlpha: true, preserveDrawingBuffer: true })
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
    names.forEach((name, i) => gl.bindAttribLocation(this.program, i, name))
    gl.linkProgram(this.program)
    if (!gl.getProgramParameter(this.program, gl.LINK_STATUS)) throw new Error(gl.getProgramInfoLog(this.program) ?? 'the drawing cannot be made')
    this.at = { view: gl.getUniformLocation(this.program, 'view'), pixel: gl.getUniformLocation(this.program, 'pixel'), light: gl.getUniformLocation(this.program, 'light'), least: gl.getUniformLocation(this.program, 'least') }
    gl.enable(gl.BLEND)
    gl.blendFunc(gl.ONE, gl.ONE_MINUS_SRC_ALPHA)
  }

  /** Puts strokes on the graphics card: ends of six numbers, a colour of four bytes and a width for each. */
  batch(ends: Float32Array, colours: Uint8Array, widths: Float32Array, count: number): Batch {
    const gl = this.gl
    const vao = gl.createVertexArray()
    gl.bindVertexArray(vao)
    const buffers = ([ends, colours, widths] as const).map(data => {
      const buffer = gl.createBuffer()
      gl.bindBuffer(gl.ARRAY_BUFFER, buffer)
      gl.bufferData(gl.ARRAY_BUFFER, data, gl.STATIC_DRAW)
      return buffer
    })
    for (const at of names.keys()) {
      gl.enableVertexAttribArray(at)
      gl.vertexAttribDivisor(at, 1)
    }
    const batch = { vao, buffers, count }
    this.from(batch, 0)
    gl.bindVertexArray(null)
    return batch
  }

  /** Lets a batch, which is bound, begin with one of its strokes. */
  private from(batch: Batch, first: number) {
    const gl = this.gl
    const attribute = (at: number, buffer: WebGLBuffer, size: number, type: number, normalised: boolean, stride: number, offset: number) => {
      gl.bindBuffer(gl.ARRAY_BUFFER, buffer)
      gl.vertexAttribPointer(at, size, type, normalised, stride, offset + first * stride)
    }
    attribute(0, batch.buffers[0]!, 3, gl.FLOAT, false, 24, 0)
    attribute(1, batch.buffers[0]!, 3, gl.FLOAT, false, 24, 12)
    attribute(2, batch.buffers[1]!, 4, gl.UNSIGNED_BYTE, true, 4, 0)
    attribute(3, batch.buffers[2]!, 1, gl.FLOAT, false, 4, 0)
  }

  /** Gives other colours to strokes. */
  recolour(batch: Batch, colours: Uint8Array) {
    const gl = this.gl
    gl.bindBuffer(gl.ARRAY_BUFFER, batch.buffers[1]!)
    gl.bufferData(gl.ARRAY_BUFFER, colours, gl.STATIC_DRAW)
  }

  drop(batch: Batch) {
    for (const b of batch.buffers) this.gl.deleteBuffer(b)
    this.gl.deleteVertexArray(batch.vao)
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
      gl.bindVertexArray(p.batch.vao)
      gl.drawArraysInstanced(gl.TRIANGLE_STRIP, 0, 4, p.count)
    }
    gl.bindVertexArray(null)
  }

  /** Draws more strokes of a batch over what is there: nothing else may have changed. */
  more(batch: Batch, first: number, end: number) {
    const gl = this.gl
    gl.bindVertexArray(batch.vao)
    this.from(batch, first)
    gl.drawArraysInstanced(gl.TRIANGLE_STRIP, 0, 4, end - first)
    this.from(batch, 0)
    gl.bindVertexArray(null)
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
