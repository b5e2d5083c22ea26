/** The days of the week, as schedules name them. */
export const DAYS = [
  { key: 'mon', short: 'Mon' },
  { key: 'tue', short: 'Tue' },
  { key: 'wed', short: 'Wed' },
  { key: 'thu', short: 'Thu' },
  { key: 'fri', short: 'Fri' },
  { key: 'sat', short: 'Sat' },
  { key: 'sun', short: 'Sun' },
] as const

/** Day (Monday is 0) and minute of the day on the wall clock of a zone; on UTC for one that is not known. */
export function wallClock(moment: Date, zone: string): { day: number; minute: number } {
  const format = (timeZone: string) =>
    new Intl.DateTimeFormat('en-GB', {
      timeZone,
      weekday: 'short',
      hour: '2-digit',
      minute: '2-digit',
      hour12: false,
    })
  let parts: Intl.DateTimeFormatPart[]
  try {
    parts = format(zone === 'device' ? 'UTC' : zone).formatToParts(moment)
  } catch {
    parts = format('UTC').formatToParts(moment)
  }
  const part = (type: string) => parts.find((part) => part.type === type)?.value ?? ''
  return {
    day: DAYS.findIndex(({ short }) => short === part('weekday')),
    minute: (Number(part('hour')) % 24) * 60 + Number(part('minute')),
  }
}
