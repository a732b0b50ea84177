import { theme } from './theme'

/** The look of charts, in the page's own colours; they change with its theme. */
export function chartLook(description: string) {
  void theme.value
  const page = getComputedStyle(document.documentElement)
  const colour = (name: string) => page.getPropertyValue(name).trim()
  const quiet = { color: colour('--ink-2'), fontSize: 11 }
  return {
    colour,
    axis: {
      axisLine: { lineStyle: { color: colour('--line') } },
      axisTick: { show: false },
      axisLabel: quiet,
      splitLine: { lineStyle: { color: colour('--line-soft') } },
    },
    legend: { top: 0, right: 12, itemWidth: 12, itemHeight: 8, textStyle: quiet },
    around: {
      animation: false,
      aria: { enabled: true, label: { description } },
      textStyle: { fontFamily: 'inherit' },
      tooltip: {
        trigger: 'axis' as const,
        backgroundColor: colour('--sheet'),
        borderColor: colour('--line'),
        textStyle: { color: colour('--ink'), fontSize: 12 },
      },
    },
  }
}
