import { ref, shallowRef } from 'vue'

import { problemOf, type Problem } from './api'

/** Asks for something each time that look is called, and holds the answer, or what was answered instead. */
export function useLook<T>(ask: () => Promise<T>) {
  const value = shallowRef<T>()
  const problem = ref<Problem>()
  async function look() {
    value.value = problem.value = undefined
    try {
      value.value = await ask()
    } catch (error) {
      problem.value = problemOf(error)
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
