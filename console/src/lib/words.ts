/** A number with its noun: “1 machine”, “1,240 machines”. */
export const counted = (number: number, noun: string, plural = `${noun}s`) =>
  `${number.toLocaleString()} ${number === 1 ? noun : plural}`

/** What was written one a line, or joined by commas. */
export const listed = (text: string) =>
  text
    .split(/[\n,]+/)
    .map((one) => one.trim())
    .filter(Boolean)

/** A code, such as a blocker's, as words. */
export const plain = (code: string) => code.replace(/-/g, ' ')

/** Who brings a rule: whoever writes the ruleset, a feed, or an address list. */
export const broughtBy = (rule: { feed?: string | null; address_list?: string | null }) =>
  rule.feed ? `feed ${rule.feed}` : rule.address_list ? `address list ${rule.address_list}` : 'by hand'

/** Seconds in the largest fitting unit: “4 min”. */
export function span(seconds: number): string {
  const steps: [number, string][] = [
    [86_400, 'd'],
    [3600, 'h'],
    [60, 'min'],
  ]
  for (const [size, unit] of steps) if (seconds >= size) return `${Math.floor(seconds / size)} ${unit}`
  return `${Math.floor(seconds)} s`
}

/** The words of an enumeration, as choices of a field that holds any text. */
export const wordsOf = (values: readonly string[]): string[] => [...values]
