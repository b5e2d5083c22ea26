import type { Schemas } from '@/api/client'

type Program = Schemas['Program']
const PROGRAM = 'program:'
const SHA256 = /^[0-9a-f]{64}$/i

/** The program that a word names, as program:NAME or by its SHA-256; none where it is a visit. */
export function programOf(word: string): Program | undefined {
  if (SHA256.test(word)) return { sha256: word.toLowerCase() }
  if (word.startsWith(PROGRAM)) return { product: word.slice(PROGRAM.length).trim() }
}

/** A program as such a word. */
export const programText = (start: Program) =>
  start.sha256 && !start.product
    ? start.sha256
    : PROGRAM + (start.product ?? start.file ?? start.path ?? start.signer ?? '')

/** What a word tries, as an attempt has it: a visit of a URL or a host, or a start. */
export function attempted(word: string): { url: string } | { start: Program } {
  const start = programOf(word.trim())
  return start ? { start } : { url: word.trim() }
}
