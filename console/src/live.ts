import { onUnmounted, reactive, ref } from 'vue'

/** Something that happened at the service. */
export interface LiveEvent {
  kind: 'run' | 'progress' | 'feed'
  feed: string
  run?: number
  state?: string
  table?: string
  phase?: string
  read?: number
  expected?: number
}

/** Whether events come in. */
export const connected = ref(false)

/** The progress of tables that are being brought up to date, by feed and table. */
export const progress = reactive(new Map<string, LiveEvent>())

export const progressKey = (feed: string, table: string) => `${feed}\n${table}`

const listeners = new Set<(event: LiveEvent) => void>()
let stream: EventSource | undefined

function open() {
  stream = new EventSource('/api/v1/events')
  stream.onopen = () => (connected.value = true)
  stream.onerror = () => (connected.value = false) // the browser tries again by itself
  stream.onmessage = (message) => {
    const event = JSON.parse(message.data as string) as LiveEvent
    if (event.kind === 'progress' && event.table) progress.set(progressKey(event.feed, event.table), event)
    if (event.kind === 'run' && event.state !== 'running')
      for (const [key, p] of progress) if (p.feed === event.feed) progress.delete(key)
    for (const listener of listeners) listener(event)
  }
}

/** Ends the stream, when nobody is signed in any more. */
export function closeLive() {
  stream?.close()
  stream = undefined
  connected.value = false
}

/**
 * Calls refresh at once, then whenever a run or a feed has changed, at most once a
 * second, and in any case every so often. Only what matches counts.
 */
export function useLive(refresh: () => Promise<unknown>, matches: (event: LiveEvent) => boolean = () => true) {
  if (!stream) open()
  let timer: number | undefined
  let running = false
  let again = false
  async function run() {
    timer = undefined
    if (running) {
      again = true
      return
    }
    running = true
    await refresh()
    running = false
    if (again) {
      again = false
      soon()
    }
  }
  function soon(after = 700) {
    timer ??= window.setTimeout(run, after)
  }
  const listener = (event: LiveEvent) => {
    if (event.kind !== 'progress' && matches(event)) soon()
    if (event.phase === 'following' || event.phase === 'copying') if (matches(event)) soon(3000)
  }
  listeners.add(listener)
  const steady = window.setInterval(() => soon(), 15_000)
  onUnmounted(() => {
    listeners.delete(listener)
    clearTimeout(timer)
    clearInterval(steady)
  })
  void run()
  return run
}
