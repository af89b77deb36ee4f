import { onUnmounted, ref, shallowRef } from 'vue'

import { api, problemOf, result, type DeployEvent, type FleetDeployment, type Problem } from './api'
import { visible } from './visible'

/** Every kind of event; the compiler knows if one is missing. */
const kinds: Record<DeployEvent['kind'], true> = {
  started: true,
  'step-began': true,
  statement: true,
  notice: true,
  waiting: true,
  emptied: true,
  'backing-out': true,
  batch: true,
  'step-ready': true,
  'step-done': true,
  'step-failed': true,
  measured: true,
  blocking: true,
  effect: true,
  round: true,
  ended: true,
}

/** Follows a deployment's events, live. */
export function useEvents(id: number, ended: () => void) {
  const followed = follow(`/api/v1/deployments/${id}/events`, ended)
  onUnmounted(followed.stop)
  return followed
}

/** Follows the events at a path until one says that it is the last, or stop is called. */
export function follow(path: string, ended: () => void) {
  const events = shallowRef<DeployEvent[]>([])
  let waiting: DeployEvent[] = []
  let last = 0

  // A deployment of a thousand small steps brings events faster than a page should redraw.
  function show() {
    if (waiting.length) events.value = [...events.value, ...waiting]
    waiting = []
  }
  const timer = setInterval(show, 100)

  const stream = listen<DeployEvent>(path, Object.keys(kinds), (event) => {
    if (event.seq <= last && event.kind !== 'ended') return // a stream that was opened again begins with the first
    last = event.seq
    waiting.push(event)
    if (event.kind !== 'ended') return
    stop()
    show()
    ended()
  })
  function stop() {
    stream.stop()
    clearInterval(timer)
  }
  return { events, broken: stream.broken, stop }
}

/** How a deployment to a fleet stands, live, until it has ended. */
export function useFleet(id: number) {
  const params = { path: { fleet: id } }
  const value = shallowRef<FleetDeployment>()
  const problem = ref<Problem>()
  const stream = listen<FleetDeployment>(
    `/api/v1/fleet-deployments/${id}`,
    ['fleet'],
    (now) => {
      const changed = new Map(now.targets?.map((t) => [t.target, t]))
      const known = value.value?.targets ?? now.targets ?? []
      value.value = { ...now, targets: known.map((t) => changed.get(t.target) ?? t) }
      problem.value = undefined
      if (now.outcome !== 'running') stream.stop()
    },
    // The service answers, and with no stream: an older one beside this one, or with what is wrong.
    async () => {
      try {
        const now = await result(api.GET('/api/v1/fleet-deployments/{fleet}', { params }))
        value.value = now as FleetDeployment // its document says that it can be a stream, too
        problem.value = undefined
      } catch (error) {
        problem.value = problemOf(error)
      }
    },
  )
  onUnmounted(stream.stop)
  return { value, problem }
}

const firstWait = 1000
const longestWait = 30_000

/**
 * Hears the events of some kinds at a path until stop is called. A browser takes a stream that breaks off up again by
 * itself, but not one that was refused, as by a proxy while its service starts again: that is opened again here, after
 * refused, and later each time. A page that nobody sees hears nothing, since a browser has few connections to share.
 */
function listen<T>(path: string, kinds: string[], hear: (event: T) => void, refused?: () => Promise<void>) {
  const broken = ref(false)
  let source: EventSource | undefined
  let timer: ReturnType<typeof setTimeout> | undefined
  let wait = firstWait

  function open() {
    close()
    const own = (source = new EventSource(path))
    for (const kind of kinds)
      own.addEventListener(kind, (message: MessageEvent<string>) => {
        broken.value = false
        wait = firstWait
        hear(visible(JSON.parse(message.data) as T))
      })
    own.onerror = async () => {
      broken.value = true
      if (own.readyState !== EventSource.CLOSED) return
      await refused?.()
      if (own !== source) return
      timer = setTimeout(open, wait)
      wait = Math.min(2 * wait, longestWait)
    }
  }
  function close() {
    clearTimeout(timer)
    source?.close()
    source = undefined
  }
  function seen() {
    if (document.hidden) close()
    else open()
  }
  document.addEventListener('visibilitychange', seen)
  seen()
  return {
    broken,
    stop: () => {
      document.removeEventListener('visibilitychange', seen)
      close()
    },
  }
}
