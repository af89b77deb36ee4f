import type { EnvironmentStatus, FleetStatus } from './api'
import { labels } from './labels'

/** An environment's state, or that of a group of targets, in one word, the worst first. */
export function stateOf(
  e: Pick<EnvironmentStatus, 'reached' | 'pending' | 'trouble'> &
    Partial<Pick<EnvironmentStatus, 'running' | 'fleet' | 'reading' | 'read_at'>>,
): string {
  if (isUnknown(e)) return labels.reading
  if (!e.reached) return labels.unreachable
  if (e.trouble.length > 0) return labels.trouble
  if (isOld(e)) return labels.reading
  if (e.running || e.fleet?.running) return labels.deploying
  if (e.pending > 0) return labels.pending
  return labels.inOrder
}

/** Whether nobody knows yet how an environment stands: its target is being read for the first time. */
export function isUnknown(e: Partial<Pick<EnvironmentStatus, 'reading' | 'read_at'>>): boolean {
  return !!e.reading && !e.read_at
}

/** Whether what is known of an environment was read a while ago, since its target takes long to answer. */
export function isOld(e: Partial<Pick<EnvironmentStatus, 'reading' | 'read_at'>>, now = Date.now()): boolean {
  return !!e.reading && !!e.read_at && now - Date.parse(e.read_at) > 10_000
}

/** How many targets of a fleet are not as most of them are. */
export function oddOf(fleet?: FleetStatus): number {
  return (fleet?.groups ?? []).slice(1).reduce((sum, g) => sum + g.targets.length, 0)
}
