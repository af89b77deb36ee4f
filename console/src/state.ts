import type { EnvironmentStatus, FleetStatus } from './api'
import { labels } from './labels'

/** An environment's state, or that of a group of targets, in one word, the worst first. */
export function stateOf(
  e: Pick<EnvironmentStatus, 'reached' | 'pending' | 'trouble'> & Partial<Pick<EnvironmentStatus, 'running' | 'fleet'>>,
): string {
  if (!e.reached) return labels.unreachable
  if (e.trouble.length > 0) return labels.trouble
  if (e.running || e.fleet?.running) return labels.deploying
  if (e.pending > 0) return labels.pending
  return labels.inOrder
}

/** How many targets of a fleet are not as most of them are. */
export function oddOf(fleet?: FleetStatus): number {
  return (fleet?.groups ?? []).slice(1).reduce((sum, g) => sum + g.targets.length, 0)
}
