import { onUnmounted, ref, shallowRef } from 'vue'

import type { DeployEvent } from './api'
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

/** Follows a deployment's events, live; the browser takes a stream that breaks off up again. */
export function useEvents(id: number, ended: () => void) {
  const followed = follow(`/api/v1/deployments/${id}/events`, ended)
  onUnmounted(followed.stop)
  return followed
}

/** Follows the events at a path until one says that it is the last, or stop is called. */
export function follow(path: string, ended: () => void) {
  const events = shallowRef<DeployEvent[]>([])
  const broken = ref(false)
  const source = new EventSource(path)
  let waiting: DeployEvent[] = []

  // A deployment of a thousand small steps brings events faster than a page should redraw.
  function show() {
    if (waiting.length) events.value = [...events.value, ...waiting]
    waiting = []
  }
  const timer = setInterval(show, 100)

  function hear(message: MessageEvent<string>) {
    broken.value = false
    const event = visible(JSON.parse(message.data) as DeployEvent)
    waiting.push(event)
    if (event.kind !== 'ended') return
    stop()
    show()
    ended()
  }
  for (const kind in kinds) source.addEventListener(kind, hear as EventListener)
  source.onerror = () => (broken.value = true)
  function stop() {
    source.close()
    clearInterval(timer)
  }
  return { events, broken, stop }
}
