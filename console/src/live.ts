import { onUnmounted, reactive, ref } from 'vue'
import { api, sessionLost, type LiveEvent } from './api'

/** Whether events come in. */
export const connected = ref(false)

/** The progress of tables that are being brought up to date, by feed and table. */
export const progress = reactive(new Map<string, LiveEvent>())

export const progressKey = (feed: string, table: string) => `${feed}\n${table}`

const listeners = new Set<(event?: LiveEvent) => void>()
let stream: EventSource | undefined
let retry: number | undefined
let again = false

/**
 * Listens as long as somebody can see the page: a browser has few connections to one
 * address, and pages in other tabs, or that were left, would hold them all.
 */
function follow() {
  if (document.visibilityState === 'hidden') closeLive()
  else if (!stream && listeners.size > 0) open()
}
document.addEventListener('visibilitychange', follow)
window.addEventListener('pagehide', closeLive)
window.addEventListener('pageshow', follow)

function open() {
  stream = new EventSource('/api/v1/events')
  stream.onopen = () => {
    connected.value = true
    if (again) for (const listener of listeners) listener() // nobody knows what happened meanwhile
    again = true
  }
  stream.onerror = () => {
    connected.value = false
    if (stream?.readyState !== EventSource.CLOSED) return // the browser tries again by itself
    closeLive()
    retry = window.setTimeout(follow, 5000)
    void stillKnown()
  }
  for (const kind of ['run', 'progress', 'feed', 'derived']) stream.addEventListener(kind, heard)
}

/** A stream that the service has ended may be that of a session it knows no more. */
async function stillKnown() {
  const { response } = await api.GET('/api/v1/session').catch(() => ({ response: undefined }))
  if (response?.status === 401) sessionLost()
}

function heard(message: MessageEvent<string>) {
  const event = JSON.parse(message.data) as LiveEvent
  if (event.kind === 'progress' && event.table) {
    if (event.phase === 'done') progress.delete(progressKey(event.feed, event.table))
    else progress.set(progressKey(event.feed, event.table), event)
  }
  if (event.kind === 'run' && event.state !== 'running')
    for (const [key, p] of progress) if (p.feed === event.feed) progress.delete(key)
  for (const listener of listeners) listener(event)
}

/** Ends the stream, as when nobody is signed in any more. */
export function closeLive() {
  clearTimeout(retry)
  stream?.close()
  stream = undefined
  connected.value = false
}

/**
 * Calls refresh at once, then whenever a run or a feed has changed, at most once a
 * second, and in any case every so often. Only what matches counts.
 */
export function useLive(refresh: () => Promise<unknown>, matches: (event: LiveEvent) => boolean = () => true) {
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
    try {
      await refresh()
    } finally {
      running = false
    }
    if (again) {
      again = false
      soon()
    }
  }
  function soon(after = 700) {
    timer ??= window.setTimeout(run, after)
  }
  const listener = (event?: LiveEvent) => {
    if (!event) return soon()
    if (event.kind !== 'progress' && matches(event)) soon()
    if (event.phase === 'following' || event.phase === 'copying') if (matches(event)) soon(3000)
  }
  listeners.add(listener)
  follow()
  const steady = window.setInterval(() => stream && soon(), 15_000)
  onUnmounted(() => {
    listeners.delete(listener)
    clearTimeout(timer)
    clearInterval(steady)
  })
  void run()
  return run
}
