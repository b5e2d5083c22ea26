const HEADINGS = new Set(['address', 'domain', 'host', 'hostname', 'ip', 'pattern', 'site', 'url', 'value'])

/** The addresses in a text that was pasted, each once: one a line or several; what follows a lone # is left out. */
export function addressesIn(text: string): string[] {
  const words = text.split('\n').flatMap((line) => {
    const all = line.split(/\s+/).filter(Boolean)
    const comment = all.findIndex((word) => word.startsWith('#'))
    return (comment < 0 ? all : all.slice(0, comment)).map((word) => word.replace(/^[,;]+|[,;]+$/g, ''))
  })
  return [...new Set(words.filter(Boolean))]
}

/** The first column of a CSV text, without its heading. */
export function firstColumn(text: string): string[] {
  const cells = text
    .split(/\r?\n/)
    .map((line) => (/^"((?:[^"]|"")*)"/.exec(line)?.[1] ?? line.split(',')[0]).trim())
  if (HEADINGS.has(cells[0]?.toLowerCase())) cells.shift()
  return [...new Set(cells.filter((cell) => cell && !cell.startsWith('#')))]
}
