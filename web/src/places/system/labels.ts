/** Labels as people write them: app=ledger, zone=a. */

export function labelsText(labels: Record<string, string> | undefined): string {
  return Object.entries(labels ?? {})
    .map(([key, value]) => `${key}=${value}`)
    .join(', ')
}

export function labelsFrom(text: string): Record<string, string> | undefined {
  const pairs = text
    .split(',')
    .map((part) => part.split('=').map((side) => side.trim()))
    .filter((pair): pair is [string, string] => pair.length === 2 && pair[0] !== '')
  return pairs.length ? Object.fromEntries(pairs) : undefined
}
