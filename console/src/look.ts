import { ref, shallowRef } from 'vue'

import { problemOf, type Problem } from './api'
import { useNewest } from './newest'

/**
 * Asks for something each time that look is called, and holds the newest answer, or what
 * was answered instead. Late answers are dropped.
 */
export function useLook<T>(ask: () => Promise<T>) {
  const value = shallowRef<T>()
  const problem = ref<Problem>()
  const question = useNewest()
  async function look() {
    const isNewest = question()
    value.value = problem.value = undefined
    try {
      const answer = await ask()
      if (isNewest()) value.value = answer
    } catch (error) {
      if (isNewest()) problem.value = problemOf(error)
    }
  }
  return { value, problem, look }
}

/** Does something at once, and holds the problem if that fails. */
export function useAct() {
  const problem = ref<Problem>()
  async function now(act: () => Promise<unknown>) {
    problem.value = undefined
    try {
      await act()
    } catch (error) {
      problem.value = problemOf(error)
    }
  }
  return { problem, now }
}
