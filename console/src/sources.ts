import { computed, ref, shallowRef, watch } from 'vue'

import { api, result, type EnvironmentStatus, type Release } from './api'
import { plural } from './labels'

const loose = 'loose'

/** What can be promoted to an environment: loose steps, or a release. */
export function useSources(environment: () => EnvironmentStatus) {
  const releases = shallowRef<Release[]>([])
  const source = ref(loose)
  const release = computed(() => (source.value === loose ? '' : source.value.slice('release '.length)))
  const sources = computed(() => [
    { value: loose, label: 'loose steps: all that wait' },
    ...releases.value.map((r) => ({
      value: `release ${r.name}`,
      label: `release ${r.name}: ${plural(r.steps, 'step')}, through ${r.through}`,
    })),
  ])
  /** Fetches the releases, and chooses the newest where only releases come in. */
  async function fetchSources() {
    releases.value = (
      await result(api.GET('/api/v1/lanes/{lane}/releases', { params: { path: { lane: environment().lane } } }))
    ).releases
    choose()
  }
  /** What the gate asks is not known while the target is still read: then it is chosen again, once it is. */
  function choose() {
    const sealedOnly = environment().gate.some((c) => c.id === 'release' && c.verdict !== 'not asked')
    const newest = releases.value[0]
    source.value = sealedOnly && newest ? `release ${newest.name}` : loose
  }
  watch(
    () => environment().gate.length,
    (_, before) => before === 0 && source.value === loose && choose(),
  )
  return { source, sources, release, fetchSources }
}
