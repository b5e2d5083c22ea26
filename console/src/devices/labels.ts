/** Labels as rows to edit. */
export const rowsOf = (labels: Record<string, string> | undefined) =>
  Object.entries(labels ?? {}).map(([name, value]) => ({ name, value }))

/** Edited rows as labels; rows that are not filled in are left out. */
export const labelsOf = (rows: { name: string; value: string }[]) =>
  Object.fromEntries(
    rows.map(({ name, value }) => [name.trim(), value.trim()]).filter(([name, value]) => name && value),
  )
