import { afterEach, beforeEach, expect, test, vi } from 'vitest'

import { follow } from '../src/follow'
import { useNewest } from '../src/newest'

/** Stands in for the browser's own: a test is the server. */
class Source {
  static all: Source[] = []
  static CLOSED = 2
  readyState = 1
  onerror?: () => void
  private heard = new Map<string, (message: { data: string }) => void>()

  constructor(readonly path: string) {
    Source.all.push(this)
  }
  addEventListener(kind: string, hear: (message: { data: string }) => void) {
    this.heard.set(kind, hear)
  }
  close() {
    this.readyState = Source.CLOSED
  }
  send(kind: string, seq: number) {
    this.heard.get(kind)?.({ data: JSON.stringify({ kind, seq }) })
  }
  /** The server refuses: the browser does not try again by itself. */
  refuse() {
    this.readyState = Source.CLOSED
    this.onerror?.()
  }
}

let watchers: (() => void)[]
const page = {
  hidden: false,
  addEventListener: (_: string, one: () => void) => watchers.push(one),
  removeEventListener: (_: string, one: () => void) => (watchers = watchers.filter((w) => w !== one)),
}
const last = () => Source.all.at(-1)!

beforeEach(() => {
  vi.useFakeTimers()
  watchers = []
  page.hidden = false
  Source.all = []
  vi.stubGlobal('document', page)
  vi.stubGlobal('EventSource', Source)
})
afterEach(() => {
  vi.useRealTimers()
  vi.unstubAllGlobals()
})

test('events are shown in batches, none twice, and the end ends it', () => {
  const ended = vi.fn()
  const { events } = follow('/events', ended)
  last().send('started', 1)
  last().send('step-began', 2)
  expect(events.value).toHaveLength(0)
  vi.advanceTimersByTime(100)
  expect(events.value.map((e) => e.seq)).toEqual([1, 2])
  last().send('started', 1) // the stream was opened again
  last().send('step-done', 3)
  last().send('ended', 4)
  expect(events.value.map((e) => e.seq)).toEqual([1, 2, 3, 4])
  expect(ended).toHaveBeenCalledOnce()
  expect(last().readyState).toBe(Source.CLOSED)
  expect(watchers).toEqual([])
  expect(vi.getTimerCount()).toBe(0)
})

test('a stream that was refused is opened again, later each time, and at once later after it was heard', async () => {
  const { broken, stop } = follow('/events', () => {})
  const opened = async (ms: number) => {
    const before = Source.all.length
    await vi.advanceTimersByTimeAsync(ms - 1)
    expect(Source.all).toHaveLength(before)
    await vi.advanceTimersByTimeAsync(1)
    expect(Source.all).toHaveLength(before + 1)
  }
  for (const wait of [1000, 2000, 4000, 8000, 16_000, 30_000, 30_000]) {
    last().refuse()
    expect(broken.value).toBe(true)
    await opened(wait)
  }
  last().send('started', 1)
  expect(broken.value).toBe(false)
  last().refuse()
  await opened(1000)
  last().refuse()
  stop()
  await vi.advanceTimersByTimeAsync(60_000)
  expect(last().readyState).toBe(Source.CLOSED)
  expect(vi.getTimerCount()).toBe(0)
})

test('a page that nobody sees hears nothing, and goes on where it was once it is seen', () => {
  const { events, stop } = follow('/events', () => {})
  const first = last()
  first.send('started', 1)
  page.hidden = true
  watchers.forEach((w) => w())
  expect(first.readyState).toBe(Source.CLOSED)
  page.hidden = false
  watchers.forEach((w) => w())
  expect(last()).not.toBe(first)
  last().send('started', 1)
  last().send('step-began', 2)
  vi.advanceTimersByTime(100)
  expect(events.value.map((e) => e.seq)).toEqual([1, 2])
  stop()
})

test('only the newest question may answer', () => {
  const question = useNewest()
  const first = question()
  const second = question()
  expect([first(), second()]).toEqual([false, true])
})
