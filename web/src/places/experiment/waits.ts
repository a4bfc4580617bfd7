/** The one override of all think times, as it stands in a plan's YAML. */

export interface Waits {
  factor?: number
  think?: string
}

const BLOCK = /^waits:[ \t]*(.*(?:\n[ \t]+.*)*)(?:\n|$)/m

/** Whether the text is YAML in lines; one in JSON is left to its writer. */
export function canBeSet(source: string): boolean {
  return source.trim() !== '' && !source.trimStart().startsWith('{')
}

export function waitsOf(source: string): Waits {
  const block = BLOCK.exec(source)?.[1] ?? ''
  const factor = /\bfactor:\s*([0-9.]+)/.exec(block)?.[1]
  if (factor !== undefined) return { factor: Number(factor) }
  const think = /\bthink:\s*["']?([^"'},\n#]+)/.exec(block)?.[1]?.trim()
  return think ? { think } : {}
}

/** The same text with this override, or without any. Nothing else in it changes. */
export function withWaits(source: string, waits: Waits): string {
  const line =
    waits.factor !== undefined
      ? `waits: {factor: ${waits.factor}}\n`
      : waits.think
        ? `waits: {think: ${waits.think}}\n`
        : ''
  if (BLOCK.test(source) && line) return source.replace(BLOCK, () => line)
  // The blank line after it goes with it, as it came.
  if (!line) return source.replace(new RegExp(`${BLOCK.source}\\n?`, 'm'), '')
  const load = /^load:/m.exec(source)
  if (load) return source.slice(0, load.index) + line + '\n' + source.slice(load.index)
  return source.replace(/\n*$/, '\n') + line
}
