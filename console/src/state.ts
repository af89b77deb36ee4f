import type { EnvironmentStatus } from './api'
import { labels } from './labels'

/** An environment's state in one word, the worst first. */
export function stateOf(e: EnvironmentStatus): string {
  if (!e.reached) return labels.unreachable
  if (e.trouble.length > 0) return labels.trouble
  if (e.running || e.fleet?.running) return labels.deploying
  if (e.pending > 0) return labels.pending
  return labels.inOrder
}
