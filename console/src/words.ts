import { onUnmounted, ref } from 'vue'

/** The present, moving on once a second while someone looks. */
export function useNow() {
  const now = ref(Date.now())
  const timer = window.setInterval(() => (now.value = Date.now()), 1000)
  onUnmounted(() => clearInterval(timer))
  return now
}

/** A count in groups of three, as 1 234 567. */
export const count = (n: number | undefined | null) =>
  n == null ? '–' : n.toLocaleString('en').replaceAll(',', '\u202f')

/** Bytes in powers of 1000. */
export function bytes(n: number): string {
  const units = ['B', 'kB', 'MB', 'GB', 'TB']
  let i = 0
  for (; n >= 1000 && i < units.length - 1; i++) n /= 1000
  return `${i === 0 ? n : n.toFixed(1)} ${units[i]}`
}

/** A length of time in its largest units. */
export function span(seconds: number): string {
  if (seconds < 1) return `${Math.round(seconds * 1000)} ms`
  if (seconds < 60) return `${seconds < 10 ? seconds.toFixed(1) : Math.floor(seconds)} s`
  if (seconds < 3600) return `${Math.floor(seconds / 60)} min ${Math.floor(seconds % 60)} s`
  if (seconds < 172_800) return `${Math.floor(seconds / 3600)} h ${Math.floor((seconds % 3600) / 60)} min`
  return `${Math.floor(seconds / 86_400)} days`
}

/** How long ago, or ahead, a time is. */
export function ago(time: string | undefined, now: number): string {
  if (!time) return 'never'
  const seconds = (now - Date.parse(time)) / 1000
  if (seconds < -1) return `in ${seconds > -60 ? `${Math.round(-seconds)} s` : span(-seconds)}`
  const whole = Math.floor(seconds)
  return whole < 2 ? 'now' : `${whole < 60 ? `${whole} s` : span(whole)} ago`
}

/** A time in full, in the reader's zone, with the zone. */
export function at(time: string | undefined): string {
  if (!time) return ''
  const two = '2-digit'
  return new Date(time).toLocaleString('sv', {
    year: 'numeric',
    month: two,
    day: two,
    hour: two,
    minute: two,
    second: two,
    timeZoneName: 'short',
  })
}

/** Seconds between two times; to now where the second is missing. */
export const between = (from: string | undefined, to: string | undefined, now: number) =>
  from ? Math.max(0, ((to ? Date.parse(to) : now) - Date.parse(from)) / 1000) : 0

export const plural = (n: number, noun: string) => (n === 1 ? `1 ${noun}` : `${count(n)} ${noun}s`)

/** Labels as they are written: name=value each, in order. */
export const labelsOf = (labels: Record<string, string> | undefined) =>
  Object.entries(labels ?? {})
    .map(([name, value]) => `${name}=${value}`)
    .sort()

/** The labels that a text has: name=value each, with commas between. */
export function labelsFrom(text: string): Record<string, string> | undefined {
  const list = text
    .split(',')
    .map((l) => l.trim())
    .filter(Boolean)
  return list.length
    ? Object.fromEntries(list.map((l) => [l.split('=')[0]!.trim(), l.split('=').slice(1).join('=').trim()]))
    : undefined
}
