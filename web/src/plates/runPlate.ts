/** The plate of a run as an ECharts option: pure, from columns and findings to a drawing. */
import type { EChartsOption } from 'echarts'
import { loadFigure, clock } from '@/ui/format'
import { arranged } from './arrangement'
import { CAPTION, LEFT, NARROW_RIGHT, RIGHT, stack, type Placed } from './layout'
import { overlay, overLine, type Overlaid } from './overlaid'
import { rowsOf } from './rows'
import { viewOf, type PlateInput, type View } from './view'

export interface Drawing {
  option: EChartsOption
  view: View
  rows: (Overlaid & Placed)[]
  height: number
}

/** The rows of a plate as somebody arranged them. */
export function shownRows(view: View): Overlaid[] {
  const most = view.beside?.most ?? {}
  const all = overlay(rowsOf(view), view.beside ? {} : view.arrangement.over).map((row) =>
    most[row.id] ? { ...row, scale: { ...row.scale, max: most[row.id] } } : row,
  )
  return arranged(all, view.arrangement)
}

export function draw(input: PlateInput): Drawing {
  const view = viewOf(input)
  const { rows, height } = stack(shownRows(view), input.beside ? CAPTION : 0)
  return { view, rows, height, option: assemble(view, rows) }
}

function assemble(view: View, rows: (Overlaid & Placed)[]): EChartsOption {
  const { tokens, axis, x } = view
  const overlaid = rows.flatMap(({ over }, grid) => (over ? [{ over, grid }] : []))
  const last = rows.length - 1
  const right = view.beside ? NARROW_RIGHT : RIGHT
  return {
    animation: false,
    textStyle: { fontFamily: 'Atkinson Hyperlegible Mono Variable, monospace', color: tokens.ink2 },
    grid: rows.map((row) => ({ left: LEFT, right, top: row.top, height: row.height })),
    xAxis: rows.map((_, i) => ({
      type: 'value' as const,
      gridIndex: i,
      min: x.min,
      max: x.max,
      name:
        i === last
          ? axis === 'load'
            ? view.profile.axis.unit
            : 'time since start, min:s'
          : undefined,
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
        formatter: axis === 'load' ? (v: number) => loadFigure(v) : (v: number) => clock(v),
      },
      splitLine: { show: false },
      axisPointer: { show: true, label: { show: false } },
    })),
    yAxis: [
      ...rows.map(({ scale }, i) => ({
        type: 'value' as const,
        gridIndex: i,
        min: 0,
        max: scale.max,
        splitNumber: scale.parts,
        axisLine: { show: false },
        axisTick: { show: false },
        axisLabel: {
          show: scale.tick !== null,
          showMinLabel: scale.atZero,
          color: tokens.ink2,
          fontSize: 12,
          formatter: scale.tick ?? undefined,
        },
        splitLine: { show: scale.lines, lineStyle: { color: tokens.rule, opacity: 0.6 } },
      })),
      ...overlaid.map(({ over, grid }) => ({
        type: 'value' as const,
        gridIndex: grid,
        min: 0,
        max: over.max,
        show: false,
      })),
    ],
    axisPointer: {
      link: [{ xAxisIndex: 'all' }],
      lineStyle: { color: tokens.ink2, width: 1 },
      snap: false,
    },
    series: [
      ...rows.flatMap((row, grid) => row.series(grid)),
      ...overlaid.map(({ over, grid }, k) => overLine(view, over, grid, rows.length + k)),
    ],
  }
}
