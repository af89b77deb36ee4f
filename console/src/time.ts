/** A time as UTC, to the second. */
export function moment(iso?: string): string {
  return iso ? new Date(iso).toISOString().slice(0, 19).replace('T', ' ') : ''
}

/** How long ago a time was, in words. */
export function ago(iso: string, now = Date.now()): string {
  const seconds = Math.max(0, (now - Date.parse(iso)) / 1000)
  if (seconds < 60) return 'just now'
  if (seconds < 3600) return `${Math.floor(seconds / 60)} min ago`
  if (seconds < 172800) return `${Math.floor(seconds / 3600)} h ago`
  return moment(iso).slice(0, 10)
}

/** A duration in milliseconds as people say it. */
export function took(ms: number): string {
  if (ms < 1000) return `${Math.round(ms)} ms`
  if (ms < 60000) return `${(ms / 1000).toFixed(1)} s`
  return `${Math.floor(ms / 60000)} min ${Math.floor((ms % 60000) / 1000)} s`
}
