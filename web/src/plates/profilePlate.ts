/** The planned load as terrain, with its levels numbered. */
import type { EChartsOption } from 'echarts'
import type { Schemas } from '@/api/client'
import { clock, users } from '@/ui/format'
import type { Tokens } from '@/ui/theme'

const NUMBERED_AT_MOST = 14
const opposite = { left: 'right', right: 'left' } as const

/** Arrivals per second as a line of their own, on the axis at the right. */
function arrivals(profile: Schemas['ProfileOutline'], tokens: Tokens) {
  return {
    type: 'line' as const,
    yAxisIndex: 1,
    data: profile.t.map((t, i) => [t, profile.rate[i] ?? 0]),
    showSymbol: false,
    silent: true,
    lineStyle: { color: tokens.ink, width: 1.2, type: 'dashed' as const },
  }
}

export function drawProfile(profile: Schemas['ProfileOutline'], tokens: Tokens): EChartsOption {
  const numbered = profile.levels.length <= NUMBERED_AT_MOST && profile.peak_users > 0
  const arriving = profile.peak_rate > 0
  const axis = (name: string, position: 'left' | 'right') => ({
    type: 'value' as const,
    min: 0,
    name,
    position,
    nameTextStyle: { color: tokens.ink2, fontSize: 12, align: opposite[position] },
    axisLabel: { color: tokens.ink2, fontSize: 12, formatter: (v: number) => users(v) },
    splitLine: { show: position === 'left', lineStyle: { color: tokens.rule, opacity: 0.6 } },
  })
  return {
    animation: false,
    textStyle: { fontFamily: 'Atkinson Hyperlegible Mono Variable, monospace', color: tokens.ink2 },
    grid: { left: 52, right: arriving ? 56 : 16, top: 26, bottom: 42 },
    xAxis: {
      type: 'value',
      min: 0,
      max: profile.duration_s,
      name: 'time since start, min:s',
      nameLocation: 'middle',
      nameGap: 26,
      nameTextStyle: { color: tokens.ink2, fontSize: 12 },
      axisLine: { lineStyle: { color: tokens.rule } },
      axisTick: { lineStyle: { color: tokens.rule } },
      axisLabel: { color: tokens.ink2, fontSize: 12, formatter: (v: number) => clock(v) },
      splitLine: { show: false },
    },
    yAxis: [axis('users', 'left'), ...(arriving ? [axis('arrivals per s', 'right')] : [])],
    series: [
      {
        type: 'line',
        data: profile.t.map((t, i) => [t, profile.users[i] ?? 0]),
        showSymbol: false,
        silent: true,
        lineStyle: { color: tokens.ink2, width: 1.2 },
        areaStyle: { color: tokens.silt, opacity: 0.4 },
      },
      ...(arriving ? [arrivals(profile, tokens)] : []),
      {
        type: 'scatter',
        silent: true,
        symbolSize: 1,
        itemStyle: { color: 'transparent' },
        label: {
          show: numbered,
          position: 'top',
          color: tokens.ink2,
          fontSize: 12,
          formatter: (p) => users((p.value as number[])[1]),
        },
        data: profile.levels.map((l) => [(l.start_s + l.end_s) / 2, l.users]),
      },
    ],
  }
}
