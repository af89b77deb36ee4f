/** Every word that stands in more than one place of the console. */
export const labels = {
  product: 'Vorrang',
  board: 'Board',
  deployments: 'Deployments',
  releases: 'Releases',
  people: 'People',
  audit: 'Audit',
  hooks: 'Hooks',
  signOut: 'Sign out',
  promote: 'Promote',
  rollBack: 'Roll back',
  baseline: 'Baseline',
  settle: 'Settle',
  amend: 'Amend',
  attest: 'Attest',
  rebuild: 'Rebuild',
  schema: 'Schema',
  withdraw: 'Withdraw',
  adopt: 'Adopt',
  howKnown: 'How do you know? Your reason is kept in the ledger.',
  stop: 'Cancel deployment',
  cancel: 'Leave as it is',
  inOrder: 'in order',
  pending: 'pending',
  deploying: 'deploying',
  trouble: 'trouble',
  unreachable: 'not reached',
  reading: 'being read',
  nothingApplied: 'nothing applied yet',
  held: 'The gate is held',
  clear: 'The gate is clear',
  tolerated: 'The gate is clear: what holds is tolerated',
  wasClear: 'The gate was clear when it began',
  pause: 'Pause',
  resume: 'Resume',
  setAside: 'Set aside',
  takeBack: 'Take back',
  copy: 'Copy',
  copied: 'Copied',
} as const

/** What each check of the gate asks, in words. */
export const checkTitles: Record<string, string> = {
  'known-database': 'Known database',
  reachable: 'Every target was read',
  'ledger-intact': 'Ledger intact',
  checksums: 'Checksums',
  catalogue: 'Catalogue',
  order: 'Order',
  'nothing-in-doubt': 'Nothing in doubt',
  quiet: 'Quiet',
  release: 'Release',
  'previous-environment': 'Previous environment',
  'same-history': 'Same history',
  soak: 'Soak',
  'way-back': 'Way back',
  window: 'Window',
  freeze: 'Freeze',
  approvals: 'Approvals',
  signature: 'Signature',
  backup: 'Backup',
  drift: 'Drift',
  rehearsal: 'Rehearsal',
  findings: 'Findings',
  unreachable: 'Target not reached',
  'unknown-deployments': 'Records older than the ledger',
  failed: 'Failed step',
  'half-done': 'Half-done step',
}

/** What an edit amounts to, by the parser's tokens. */
export const changes: Record<string, string> = {
  'white space': 'Only white space differs; what it runs is the same.',
  comments: 'Only comments and white space differ; what it runs is the same.',
  statements: 'What it runs differs.',
}

/** What verify finds, in words. */
export const deviationTitles: Record<string, string> = {
  chain: 'Chain',
  checksum: 'Checksum',
  absent: 'Absent',
  order: 'Order',
  late: 'Late',
  'in-doubt': 'In doubt',
  'half-done': 'Half-done',
  history: 'History',
}

/** What each operation of the API is, in the audit's words. The API's own name stands where one is missing. */
export const operations: Record<string, string> = {
  signIn: 'signed in',
  openIDBack: 'signed in',
  signOut: 'signed out',
  makeOwnToken: 'made a token of their own',
  changePassword: 'changed their password',
  putPerson: 'kept a person',
  makeToken: 'made a token',
  revokeToken: 'ended a token',
  putHook: 'kept a hook',
  removeHook: 'removed a hook',
  declareLane: 'declared a lane',
  submit: 'submitted steps',
  submitBundle: 'took in a bundle',
  withdraw: 'withdrew a step',
  cut: 'cut a release',
  promote: 'promoted',
  promoteScheduled: 'promoted, as scheduled',
  forgetAudit: 'let go of old entries of the audit',
  dropScheduled: 'took a scheduled promotion back',
  rollback: 'rolled back',
  rebuild: 'rebuilt',
  cancel: 'cancelled a deployment',
  approve: 'approved',
  withdrawApproval: 'took an approval back',
  waive: 'waived a check',
  freeze: 'froze',
  thaw: 'thawed',
  reportBackup: 'reported a backup',
  baseline: 'baselined',
  attest: 'attested',
  amend: 'amended',
  settle: 'settled',
  acceptDrift: 'accepted drift',
  adopt: 'adopted',
  draft: 'drafted steps',
  compareRelease: 'compared with a release',
  trySubmit: 'tried a submission',
  knownTexts: 'asked which files are known',
  review: 'reviewed a folder',
  rehearse: 'rehearsed',
  cancelRehearsal: 'cancelled a rehearsal',
  pauseFleet: 'paused a deployment to a fleet',
  resumeFleet: 'resumed a deployment to a fleet',
  cancelFleet: 'cancelled a deployment to a fleet',
  setAside: 'set a target aside',
  takeBack: 'took a target back that was set aside',
}

/** How much a finding of a review matters. */
export const severityTitles: Record<'high' | 'medium' | 'low', string> = { high: 'high', medium: 'medium', low: 'low' }

export const wayBackTitles: Record<string, string> = {
  complete: 'complete',
  incomplete: 'incomplete',
  failed: 'failed',
  missing: 'there is none',
  'not tried': 'not tried',
}

/** A step as people say it. */
export function titled(step: { number: string; slug: string }): string {
  return `${step.number} ${step.slug.replaceAll('-', ' ')}`
}

/** A target of a fleet is a place of its own: ENVIRONMENT.TARGET. */
export function placeName(environment: string, target: string): string {
  return `${environment}.${target}`
}

/** The fleet that a place is a target of; empty for an environment. */
export function fleetOf(place: string): string {
  const dot = place.indexOf('.')
  return dot < 0 ? '' : place.slice(0, dot)
}

/** A place's own name in its fleet, or that of an environment. */
export function targetOf(place: string): string {
  return place.slice(place.indexOf('.') + 1)
}

export function plural(n: number, noun: string): string {
  return `${n} ${noun}${n === 1 ? '' : 's'}`
}
