import { api, result } from './api'
import { useLook } from './look'

/** What a target shows of a step, each time that look is called. */
export function useEvidence(of: () => { lane: string; environment: string; step: string }) {
  return useLook(() =>
    result(
      api.GET('/api/v1/lanes/{lane}/environments/{environment}/steps/{step}/evidence', { params: { path: of() } }),
    ),
  )
}
