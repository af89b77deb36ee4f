import { expect, test } from 'vitest'

import { some, together } from '../src/together'

const said = (environment: string, message: string, remedy = 'look') => ({ environment, message, remedy })
const put = (list: ReturnType<typeof said>[]) =>
  together(
    list,
    (one) => one.remedy,
    (one) => one.message,
  ).map((t) => [t.places, t.first.message, t.example])

test('what is to be done about several targets of a fleet is said once, in the order of the first', () => {
  expect(
    put([
      said('field.north', 'nothing answers at 10.0.0.1'),
      said('field.south', 'there is no file', 'make it'),
      said('field.west', 'nothing answers at 10.0.0.2'),
    ]),
  ).toEqual([
    [['field.north', 'field.west'], 'nothing answers at 10.0.0.1', true],
    [['field.south'], 'there is no file', false],
  ])
})

test("a place's own name is no difference", () => {
  const list = [
    said('field.north', 'field.north is empty', 'see field.north'),
    said('field.west', 'field.west is empty', 'see field.west'),
  ]
  expect(put(list)).toEqual([[['field.north', 'field.west'], 'field.north is empty', false]])
  const others = [said('field.g1', 'not field.g12'), said('field.g2', 'not field.g22')]
  expect(put(others)).toEqual([[['field.g1', 'field.g2'], 'not field.g12', true]])
})

test('environments and fleets stay apart', () => {
  expect(put([said('staging', 'gone'), said('production', 'gone'), said('field.north', 'gone')])).toHaveLength(3)
})

test('so many are named', () => {
  expect(some(['field.a', 'field.b', 'staging'])).toBe('a, b, staging')
  expect(some([1, 2, 3, 4, 5, 6, 7].map((n) => `field.g${n}`))).toBe('g1, g2, g3, g4, g5, 2 more')
})
