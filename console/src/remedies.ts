import commands from '../../internal/advice/commands.json'
import type { Remedy } from './api'

type Arguments = NonNullable<Remedy['arguments']>

/** A move as a command of the client, worded by the same table as there (internal/advice). */
export function commandOf(act: string, a: Arguments): string {
  const release = a.new_release ? 'NAME' : (a.release ?? '')
  const values: Record<string, string> = {
    lane: a.lane ?? '',
    environment: a.environment ?? '',
    step: a.step ?? '',
    to: a.to ?? '',
    as: a.as ?? '',
    last: a.last ? String(a.last) : '',
    release,
    name: release || 'NAME',
    number: a.step || 'N',
    steps: a.steps ?? '',
    typed: a.typed ?? '',
    person: a.person ?? '',
    grant: a.grant ?? '',
  }
  const fill = (text: string) => text.replace(/\{(\w+)\}/g, (_, name: string) => values[name] ?? '')
  const whole = (text: string) =>
    [...text.matchAll(/\{(\w+)\}/g)].every(([, name]) => (name === 'acknowledge' ? a.acknowledge : values[name ?? '']))
  const words = (commands as Record<string, string>)[act] ?? ''
  const text = fill(words.replace(/ ?\[([^\]]*)\]/g, (_, part: string) => (whole(part) ? ' ' + fill(part) : '')))
  return text.startsWith('+') ? '' : 'vorrang ' + text // what is added to a command is a field of a dialog here
}

/** A remedy, and what follows it, as pieces to show: words, and a command to copy. */
export function pieces(remedy: Remedy): { words: string; command: string }[] {
  const list: { words: string; command: string }[] = []
  for (let one: Remedy | undefined = remedy, word = ''; one; one = one.then as Remedy | undefined, word = 'then') {
    list.push({
      words: [word, one.reason].filter(Boolean).join(' '),
      command: one.act ? commandOf(one.act, one.arguments ?? {}) : '',
    })
  }
  return list
}

/** Whether a move is among what can be done. */
export function offers(remedies: Remedy[], act: string): boolean {
  return remedies.some((r) => r.act === act || (r.then ? offers([r.then as Remedy], act) : false))
}
