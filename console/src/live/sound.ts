/** Sounds of our own, made in the browser: frequency, begin and length of each tone, Hz and s. */
const tones = {
  done: [[523, 0, 0.18], [659, 0.16, 0.18], [784, 0.32, 0.4]],
  urgent: [[392, 0, 0.22], [311, 0.26, 0.22], [392, 0.7, 0.22], [311, 0.96, 0.3]],
  other: [[587, 0, 0.3]],
} satisfies Record<string, [number, number, number][]>

let context: AudioContext | undefined

/** Browsers let a page sound only once it was touched. */
const unlock = () => {
  context ??= new AudioContext()
  context.resume().catch(() => undefined)
}
addEventListener('pointerdown', unlock, { once: true })
addEventListener('keydown', unlock, { once: true })

export function play(what: keyof typeof tones): void {
  const on = context
  if (!on) return
  for (const [frequency, begin, length] of tones[what]) {
    const tone = on.createOscillator()
    const volume = on.createGain()
    const at = on.currentTime + begin
    tone.frequency.value = frequency
    tone.type = 'triangle'
    volume.gain.setValueAtTime(0, at)
    volume.gain.linearRampToValueAtTime(0.25, at + 0.02)
    volume.gain.exponentialRampToValueAtTime(0.001, at + length)
    tone.connect(volume).connect(on.destination)
    tone.start(at)
    tone.stop(at + length)
  }
}
