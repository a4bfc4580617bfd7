/** The words of the metric shelf: names of metrics and figures for people. */
import type { Pin, ShelfMetric } from '@/api/systems'

const words: Record<Pin['figure'], string> = {
  value: 'as it is',
  'per step': 'per step',
  'per instance': 'per instance',
  'by label': 'by label',
  largest: 'largest instance',
  ratio: 'over another metric',
  share: 'share of all components',
  spread: 'distribution over time',
  mean: 'mean',
}

export function figureText(kind: Pin['figure'], metric: Pick<ShelfMetric, 'kind'>): string {
  return kind === 'value' && metric.kind === 'counter' ? 'per second' : words[kind]
}

export function samePin(a: Pin, b: Pin): boolean {
  return (
    a.component === b.component &&
    a.metric === b.metric &&
    a.figure === b.figure &&
    a.other_component === b.other_component &&
    a.other_metric === b.other_metric
  )
}

/** A pin in words, with the names of the shelf where it has the metric. */
export function pinText(pin: Pin, metrics: ShelfMetric[]): string {
  const known = (component: string, metric: string) =>
    metrics.find((m) => m.component === component && m.metric === metric)?.name ?? metric
  const name = `${pin.component} ${known(pin.component, pin.metric)}`
  if (pin.figure === 'ratio')
    return `${name} over ${pin.other_component} ${known(pin.other_component, pin.other_metric)}`
  return pin.figure === 'value' ? name : `${name}, ${words[pin.figure]}`
}

/** Whether every word stands somewhere in what is known of the metric. */
export function found(metric: ShelfMetric, query: string): boolean {
  const text =
    `${metric.component} ${metric.metric} ${metric.name} ${metric.help} ${metric.figures.join(' ')}`.toLowerCase()
  return query
    .toLowerCase()
    .split(/\s+/)
    .every((word) => text.includes(word))
}
