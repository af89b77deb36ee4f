import { computed, ref, shallowRef, type Ref } from 'vue'

import type { Problem } from './api'
import { usePolled } from './poll'

/** A list that is searched and read page by page. */
export interface Pages {
  asked: Readonly<Ref<string>>
  newer: Readonly<Ref<boolean>>
  older: Readonly<Ref<boolean>>
  find(text: string): void
  turn(older: boolean): void
}

/**
 * Reads the page of a list that is shown again and again. What a page goes on from is next of
 * the page before.
 */
export function usePages<K extends string | number, T extends { next?: K }>(
  fetch: (search: string, from: K | undefined) => Promise<T>,
  soon?: (value: T) => boolean,
): { value: Ref<T | undefined>; problem: Ref<Problem | undefined>; refresh: () => Promise<void>; pages: Pages } {
  const asked = ref('')
  const behind = shallowRef<K[]>([])
  const { value, problem, refresh } = usePolled(() => fetch(asked.value, behind.value.at(-1)), soon)
  const pages = {
    asked,
    newer: computed(() => behind.value.length > 0),
    older: computed(() => value.value?.next !== undefined),
    find(text: string) {
      asked.value = text.trim()
      behind.value = []
      refresh()
    },
    turn(older: boolean) {
      const next = value.value?.next
      if (!older) behind.value = behind.value.slice(0, -1)
      else if (next !== undefined) behind.value = [...behind.value, next]
      refresh()
    },
  }
  return { value, problem, refresh, pages }
}
