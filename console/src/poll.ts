import { onMounted, onUnmounted, ref, shallowRef, type Ref } from 'vue'

import { problemOf, type Problem } from './api'
import { useNewest } from './newest'

/**
 * Fetches again and again while the page is shown: every 4 s, or after 1 s where more is to come soon.
 * The newest value stays when a fetch fails.
 */
export function usePolled<T>(
  fetch: () => Promise<T>,
  soon: (value: T) => boolean = () => false,
): {
  value: Ref<T | undefined>
  problem: Ref<Problem | undefined>
  refresh: () => Promise<void>
} {
  const value = shallowRef<T>()
  const problem = ref<Problem>()
  let timer: ReturnType<typeof setTimeout> | undefined
  let gone = false
  const question = useNewest()

  async function refresh() {
    clearTimeout(timer)
    const isNewest = question()
    try {
      const answer = await fetch()
      if (!isNewest()) return
      value.value = answer
      problem.value = undefined
    } catch (error) {
      if (!isNewest()) return
      problem.value = problemOf(error)
    }
    const after = value.value && soon(value.value) ? 1000 : 4000
    if (!gone) timer = setTimeout(() => (document.hidden ? wake() : refresh()), after)
  }
  function wake() {
    document.addEventListener('visibilitychange', () => refresh(), { once: true })
  }
  onMounted(refresh)
  onUnmounted(() => {
    gone = true
    clearTimeout(timer)
  })
  return { value, problem, refresh }
}
