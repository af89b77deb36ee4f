/** Every word that stands in more than one place of the console. */
export const labels = {
  product: 'Vorrang',
  board: 'Board',
  deployments: 'Deployments',
  signOut: 'Sign out',
  promote: 'Promote',
  rollBack: 'Roll back',
  baseline: 'Baseline',
  settle: 'Settle',
  stop: 'Cancel deployment',
  cancel: 'Leave as it is',
  inOrder: 'in order',
  pending: 'pending',
  deploying: 'deploying',
  trouble: 'trouble',
  unreachable: 'not reached',
  nothingApplied: 'nothing applied yet',
  held: 'The gate is held',
  clear: 'The gate is clear',
  wasClear: 'The gate was clear when it began',
  copy: 'Copy',
  copied: 'Copied',
} as const

/** What each check of the gate asks, in words. */
export const checkTitles: Record<string, string> = {
  'known-database': 'Known database',
  'ledger-intact': 'Ledger intact',
  checksums: 'Checksums',
  catalogue: 'Catalogue',
  order: 'Order',
  'nothing-in-doubt': 'Nothing in doubt',
  quiet: 'Quiet',
  unreachable: 'Target not reached',
  failed: 'Failed step',
}

export function plural(n: number, noun: string): string {
  return `${n} ${noun}${n === 1 ? '' : 's'}`
}
