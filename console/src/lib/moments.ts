/** A moment as a field for date and time takes it, on this browser's clock. */
export function typed(moment: string | null | undefined): string {
  if (!moment) return ''
  const at = new Date(moment)
  return new Date(at.getTime() - at.getTimezoneOffset() * 60_000).toISOString().slice(0, 16)
}

/** What was typed into such a field as a moment in UTC; null for nothing. */
export const momentOf = (text: string) => (text ? new Date(text).toISOString().replace('.000', '') : null)
