/** The plate of a run as an ECharts option: pure, from columns and findings to a drawing. */
import type { EChartsOption, SeriesOption } from 'echarts'
import type { Schemas } from '@/api/client'
import { amount, clock, figure, given, percent, users } from '@/ui/format'
import type { Tokens } from '@/ui/theme'
import { blurSeries } from './blur'
import { LEFT, RIGHT, stack, type Layout } from './layout'
import { bands, flags, rules } from './marks'
import { PIN_PREFIX, pinHeight, pinSeries } from './pinRows'
import { cellRow, reach } from './strip'

export type Plate = Omit<Schemas['LivePlate'], 'state' | 'elapsed_s'>
export type Profile = Schemas['ProfileOutline']
export type Axis = 'clock' | 'load'

/** One level of the findings, as far as the plate draws it. */
export interface LevelPoint {
  number: number
  start_s: number
  end_s: number
  users: number
  throughput: number
  p50_s: number | null
  p95_s: number | null
  p99_s: number | null
  in_flight: number
  present?: number
  overdue?: number
  blind?: number
  completions: number
  errors: number
  utilisation: Record<string, number | null>
}

export interface Boundary {
  value: number
  low: number
  high: number
}

export interface PlateInput {
  axis: Axis
  plate: Plate
  profile: Profile
  levels: LevelPoint[]
  comfort: Boundary | null
  saturation: Boundary | null
  goals: { label: string; limit: number }[]
  flags: { t: number; text: string }[]
  tokens: Tokens
}

export interface Drawing {
  option: EChartsOption
  layout: Layout
}

type Column = (number | null)[]
type Point = [number, number | null]

/** Rows before those of resources, and the place of the blur's. */
const BLUR = 4
const FIRST_RESOURCE = 5
const HEIGHTS = { load: 84, throughput: 92, response: 136, errors: 34, strip: 15 }

export function draw(input: PlateInput): Drawing {
  const onLoad = input.axis === 'load'
  const { resources, pins } = input.plate
  const layout = stack([
    { id: 'load', name: onLoad ? 'Waiting' : 'Users', height: HEIGHTS.load },
    { id: 'throughput', name: 'Throughput', height: HEIGHTS.throughput },
    { id: 'response', name: 'Response time', height: HEIGHTS.response },
    { id: 'errors', name: 'Errors', height: HEIGHTS.errors },
    { id: 'blur', name: 'Blur of measuring', height: HEIGHTS.strip },
    ...resources.map((r) => ({
      id: `resource:${r.key}`,
      name: resourceName(r),
      height: HEIGHTS.strip,
    })),
    ...pins.map((pin, i) => ({
      id: `${PIN_PREFIX}${i}`,
      name: pin.title,
      height: pinHeight(pin),
    })),
  ])
  const series = onLoad ? loadSeries(input, resources) : clockSeries(input, resources)
  const strips = series.length - resources.length
  series.splice(strips, 0, ...blurSeries(input, BLUR, loadExtent(input).max))
  pins.forEach((pin, i) =>
    series.push(...pinSeries(pin, FIRST_RESOURCE + resources.length + i, input)),
  )
  const x = onLoad ? loadExtent(input) : { min: 0, max: clockEnd(input) }
  return { layout, option: assemble(input, layout, series, x) }
}

export function resourceName(r: { component: string; name: string }): string {
  return `${r.component} ${r.name === 'cpu' ? 'CPU' : r.name}`
}

function clockEnd({ plate, profile }: PlateInput): number {
  return Math.max(profile.duration_s, plate.t.at(-1) ?? 0)
}

function loadExtent({ levels, plate, profile }: PlateInput) {
  const seen = levels.length
    ? levels.map((l) => l.users)
    : (plate.users.filter(Boolean) as number[])
  return { min: 0, max: Math.ceil(Math.max(...seen, profile.peak_users) * 1.04) }
}

// Series

function clockSeries(input: PlateInput, resources: Plate['resources']): SeriesOption[] {
  const { plate, profile, tokens } = input
  const over = (column: (number | null)[]) => zip(plate.t, column)
  return [
    {
      ...line(0, tokens.silt),
      data: zip(profile.t, profile.users),
      areaStyle: { color: tokens.silt, opacity: 0.4 },
      lineStyle: { color: tokens.silt, width: 1 },
      markLine: flags(input),
    },
    {
      ...line(0, tokens.ink),
      data: over(plate.users),
      lineStyle: { color: tokens.ink, width: 1.2 },
    },
    { ...line(1, tokens.lake), data: over(plate.throughput) },
    ...fan(plate.t, ...loaded(plate, [plate.p50, plate.p95, plate.p99]), tokens, input),
    bars(3, zip(plate.t, plate.errors), tokens.brick),
    ...resources.map((r, i) => {
      const half = plate.bin_s / 2
      const cells = plate.t.map((t, k) => ({
        ...{ from: (t ?? 0) - half, to: (t ?? 0) + half, low: 0, high: 1 },
        value: r.utilisation[k] ?? null,
      }))
      return cellRow(FIRST_RESOURCE + i, cells, tokens)
    }),
  ]
}

function loadSeries(input: PlateInput, resources: Plate['resources']): SeriesOption[] {
  const { plate, levels, tokens } = input
  const sorted = levels.toSorted((a, b) => a.users - b.users)
  const at = (pick: (l: LevelPoint) => number | null): Point[] =>
    sorted.map((l) => [l.users, pick(l)])
  const x = sorted.map((l) => l.users)
  const cloud = (grid: number, column: (number | null)[], color: string): SeriesOption => ({
    type: 'scatter',
    xAxisIndex: grid,
    yAxisIndex: grid,
    // Seconds after the profile's end belong to no load.
    data: zip(plate.users, column).filter((_, i) => (plate.planned[i] ?? 0) > 0),
    symbolSize: 3,
    itemStyle: { color, opacity: sorted.length ? 0.18 : 0.5 },
    silent: true,
  })
  return [
    {
      ...line(0, tokens.ink2),
      data: at((l) => l.in_flight),
      areaStyle: { color: tokens.silt, opacity: 0.4 },
      symbol: 'circle',
      symbolSize: 5,
      showSymbol: true,
      markArea: bands(input, loadExtent(input).max, true),
    },
    cloud(0, plate.in_flight, tokens.ink2),
    {
      ...line(1, tokens.lake),
      data: at((l) => l.throughput),
      symbol: 'circle',
      symbolSize: 6,
      showSymbol: true,
      markArea: bands(input, loadExtent(input).max, false),
    },
    cloud(1, plate.throughput, tokens.lake),
    ...fan(
      x,
      sorted.map((l) => l.p50_s),
      sorted.map((l) => l.p95_s),
      sorted.map((l) => l.p99_s),
      tokens,
      input,
    ),
    bars(
      3,
      at((l) => (l.completions ? l.errors / l.completions : 0)),
      tokens.brick,
    ),
    ...resources.map((r, i) => {
      const cells = sorted.map((l, k) => {
        const [from, to] = reach(x, k, loadExtent(input).max)
        return { from, to, low: 0, high: 1, value: l.utilisation[r.key] ?? null }
      })
      return cellRow(FIRST_RESOURCE + i, cells, tokens)
    }),
  ]
}

/** Columns without the seconds that no load was planned for: those who finish last would set the row's scale. */
function loaded(plate: Plate, columns: [Column, Column, Column]): [Column, Column, Column] {
  const only = (column: Column) =>
    column.map((value, i) => ((plate.planned[i] ?? 0) > 0 ? value : null))
  const [p50, p95, p99] = columns
  return [only(p50), only(p95), only(p99)]
}

function zip(x: (number | null)[], y: (number | null)[]): Point[] {
  return x.map((value, i) => [value ?? 0, y[i] ?? null])
}

function line(grid: number, color: string) {
  return {
    type: 'line' as const,
    xAxisIndex: grid,
    yAxisIndex: grid,
    showSymbol: false,
    itemStyle: { color },
    lineStyle: { color, width: 1.6 },
    emphasis: { disabled: true },
    z: 3,
  }
}

const LONGEST_BRIDGE = 4

function fan(
  x: (number | null)[],
  p50: (number | null)[],
  p95: (number | null)[],
  p99: (number | null)[],
  tokens: Tokens,
  input: PlateInput,
): SeriesOption[] {
  const known = x.map((_, i) => i).filter((i) => p50[i] != null && p95[i] != null && p99[i] != null)
  const pick = (f: (i: number) => number): Point[] =>
    known.flatMap((i, k): Point[] => {
      const before = known[k - 1] ?? i
      // Nothing was answered for long, as in a pause: no line may lead across it.
      const gap: Point[] = i - before > LONGEST_BRIDGE ? [[x[before + 1] ?? 0, null]] : []
      return [...gap, [x[i] ?? 0, f(i)]]
    })
  const layer = (data: Point[], opacity: number): SeriesOption => ({
    ...line(2, tokens.copper),
    data,
    stack: 'fan',
    stackStrategy: 'all',
    lineStyle: { opacity: 0 },
    areaStyle: { color: tokens.copper, opacity, origin: 'auto' },
    silent: true,
    z: 2,
  })
  const marks = input.axis === 'load' && known.length > 0
  return [
    layer(
      pick((i) => p50[i] ?? 0),
      0,
    ),
    layer(
      pick((i) => (p95[i] ?? 0) - (p50[i] ?? 0)),
      0.28,
    ),
    layer(
      pick((i) => (p99[i] ?? 0) - (p95[i] ?? 0)),
      0.13,
    ),
    {
      ...line(2, tokens.copper),
      data: pick((i) => p50[i] ?? 0),
      showSymbol: marks,
      symbol: 'circle',
      symbolSize: 6,
      markLine: rules(input),
      markArea: input.axis === 'load' ? bands(input, loadExtent(input).max, false) : undefined,
    },
  ]
}

function bars(grid: number, data: Point[], color: string): SeriesOption {
  return {
    type: 'bar',
    xAxisIndex: grid,
    yAxisIndex: grid,
    data,
    barWidth: 3,
    itemStyle: { color },
    emphasis: { disabled: true },
  }
}

// Frame

function assemble(
  input: PlateInput,
  layout: Layout,
  series: SeriesOption[],
  x: { min: number; max: number },
): EChartsOption {
  const { tokens, axis } = input
  const last = layout.rows.length - 1
  const formatX = axis === 'load' ? (v: number) => users(v) : (v: number) => clock(v)
  return {
    animation: false,
    textStyle: { fontFamily: 'Atkinson Hyperlegible Mono Variable, monospace', color: tokens.ink2 },
    grid: layout.rows.map((row) => ({
      left: LEFT,
      right: RIGHT,
      top: row.top,
      height: row.height,
    })),
    xAxis: layout.rows.map((_, i) => ({
      type: 'value' as const,
      gridIndex: i,
      min: x.min,
      max: x.max,
      name: i === last ? (axis === 'load' ? 'users' : 'time since start, min:s') : undefined,
      nameLocation: 'middle' as const,
      nameGap: 24,
      nameTextStyle: { color: tokens.ink2, fontSize: 12 },
      axisLine: { lineStyle: { color: tokens.rule } },
      axisTick: { show: i === last, lineStyle: { color: tokens.rule } },
      axisLabel: {
        show: i === last,
        showMaxLabel: axis === 'clock',
        color: tokens.ink2,
        fontSize: 12,
        formatter: formatX,
      },
      splitLine: { show: false },
      axisPointer: { show: true, label: { show: false } },
    })),
    yAxis: layout.rows.map((row, i) => ({
      type: 'value' as const,
      gridIndex: i,
      min: 0,
      max: yMax(row.id, input),
      splitNumber: i >= 3 ? 1 : 3,
      axisLine: { show: false },
      axisTick: { show: false },
      axisLabel: {
        showMinLabel: !row.id.startsWith(PIN_PREFIX),
        show: i < BLUR || pinOf(row.id, input) !== undefined,
        color: tokens.ink2,
        fontSize: 12,
        formatter: (v: number) => labelY(row.id, v, input),
      },
      splitLine: { show: i < 3, lineStyle: { color: tokens.rule, opacity: 0.6 } },
    })),
    axisPointer: {
      link: [{ xAxisIndex: 'all' }],
      lineStyle: { color: tokens.ink2, width: 1 },
      snap: false,
    },
    tooltip: { trigger: 'axis', showContent: false },
    toolbox: {
      itemSize: 0,
      feature: { dataZoom: { yAxisIndex: 'none', xAxisIndex: layout.rows.map((_, i) => i) } },
    },
    series,
  }
}

/** An axis of zeros has no height; give it one so that the first error does not fill the row. */
function emptyErrorsMax({ plate }: PlateInput): number | undefined {
  return plate.errors.some((e) => (e ?? 0) > 0) ? undefined : 1
}

/** Shares of strips and distributions fill their row at 1; other rows find their own height. */
function yMax(row: string, input: PlateInput): number | undefined {
  if (row === 'errors') return emptyErrorsMax(input)
  return row === 'blur' ||
    row.startsWith('resource:') ||
    (row.startsWith(PIN_PREFIX) && !pinOf(row, input))
    ? 1
    : undefined
}

/** The pin drawn as lines in this row. */
function pinOf(row: string, { plate }: PlateInput) {
  const pin = row.startsWith(PIN_PREFIX)
    ? plate.pins[Number(row.slice(PIN_PREFIX.length))]
    : undefined
  return pin?.lines.length ? pin : undefined
}

function labelY(row: string, value: number, input: PlateInput): string {
  const pin = pinOf(row, input)
  if (pin) return amount(value, /^(s|B|B\/s|share)\b/.exec(pin.unit)?.[0] ?? '')
  if (row === 'response') return given(value)
  if (row === 'errors' && input.axis === 'load') return percent(value)
  return Number.isInteger(value) ? users(value) : figure(value)
}
