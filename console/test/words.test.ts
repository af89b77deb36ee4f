import { expect, test } from 'vitest'

import commands from '../../internal/advice/commands.json'
import { commandOf, offers, pieces } from '../src/remedies'
import { isOld, isUnknown, oddOf, stateOf } from '../src/state'
import { ago, moment, took } from '../src/time'
import { visible } from '../src/visible'

test('no text can hide, move or end what a page shows', () => {
  const text = 'a\u0000b\u001b[31m\u009b\u202e\u2066\u200f\u007f\u2028'
  const { inner } = visible({ inner: [{ text }] }) as { inner: [{ text: string }] }
  expect(inner[0].text).toBe('a^@b^[[31mM-^[<U+202E><U+2066><U+200F>^?<U+2028>')
  expect(visible('line\n\ttab, Grüße, 港')).toBe('line\n\ttab, Grüße, 港')
  expect(visible({ n: 1, none: null, yes: true })).toEqual({ n: 1, none: null, yes: true })
})

test('every move that is a command has its words, and none has a hole', () => {
  const full = {
    lane: 'harbour',
    environment: 'staging',
    step: '7',
    to: '6',
    as: 'whole',
    last: 1,
    release: '2026.11',
    steps: '3,4',
    typed: 'staging',
    person: 'a.lund',
    grant: 'reader',
  }
  for (const act of Object.keys(commands)) {
    for (const given of [full, {}]) expect(commandOf(act, given), act).not.toMatch(/[{}[\]]|undefined/)
    expect(commandOf(act, full), act).toMatch(/^(vorrang \w|$)/)
  }
  expect(commandOf('promote', { lane: 'harbour', environment: 'staging' })).toBe(
    'vorrang promote -lane harbour -to staging',
  )
})

test('a remedy is words and commands, one after the other', () => {
  const cut = { act: 'cut', arguments: { lane: 'harbour' }, reason: 'seal it' } as const
  const list = pieces({ ...cut, then: { act: 'promote', arguments: { lane: 'harbour', environment: 'staging' } } })
  expect(list.map((p) => p.words)).toEqual(['seal it', 'then'])
  expect(list[1]?.command).toContain('vorrang promote')
  expect(offers([{ ...cut, then: { act: 'promote' } }], 'promote')).toBe(true)
  expect(offers([cut], 'promote')).toBe(false)
})

test('the worst is said first of an environment', () => {
  const trouble = [{ kind: 'order', message: '', remedies: [] }]
  const fine = { reached: true, pending: 0, trouble: [] as typeof trouble }
  const read = new Date().toISOString()
  const long = new Date(Date.now() - 60_000).toISOString()
  expect(stateOf(fine)).toBe('in order')
  expect(stateOf({ ...fine, pending: 2 })).toBe('pending')
  expect(stateOf({ ...fine, pending: 2, trouble })).toBe('trouble')
  expect(stateOf({ ...fine, reached: false, trouble })).toBe('not reached')
  expect(stateOf({ ...fine, reached: false, reading: true })).toBe('being read')
  expect(stateOf({ ...fine, reading: true, read_at: read })).toBe('in order')
  expect(stateOf({ ...fine, reading: true, read_at: long })).toBe('being read')
  expect(stateOf({ ...fine, trouble, reading: true, read_at: long })).toBe('trouble')
  expect(isUnknown({ reading: true })).toBe(true)
  expect(isOld({ reading: false, read_at: long })).toBe(false)
})

test('all targets but those of the largest group are odd', () => {
  const group = (...targets: string[]) => ({ targets, applied: 0, pending: 0, reached: true, gate: '', trouble: [] })
  const fleet = { targets: 4, tolerate: 0, aside: [], groups: [group('a', 'b'), group('c'), group('d')] }
  expect(oddOf(fleet)).toBe(2)
  expect(oddOf(undefined)).toBe(0)
})

test('times and durations are words', () => {
  const now = Date.parse('2026-11-28T12:00:00Z')
  expect(ago('2026-11-28T12:00:05Z', now)).toBe('just now') // a clock that is a little ahead
  expect(ago('2026-11-28T11:01:00Z', now)).toBe('59 min ago')
  expect(ago('2026-11-27T12:00:00Z', now)).toBe('24 h ago')
  expect(ago('2026-11-01T12:00:00Z', now)).toBe('2026-11-01')
  expect(moment('2026-11-28T12:00:00.9+01:00')).toBe('2026-11-28 11:00:00')
  expect(moment(undefined)).toBe('')
  expect([took(999.4), took(1000), took(59_949), took(61_000)]).toEqual(['999 ms', '1.0 s', '59.9 s', '1 min 1 s'])
})
