import { fleetOf, targetOf } from './labels'

/** What is said of one environment, or alike of several targets of a fleet. */
export interface Told<T> {
  places: string[]
  first: T
  /** What is said of the first, if that is not what is said of all. */
  example: boolean
}

/** So many places are named. */
const most = 5

/**
 * Puts what is said alike of a fleet's targets into one. alike is what has to be the same, words what is shown of it;
 * the name of a place in them does not count.
 */
export function together<T extends { environment: string }>(
  list: readonly T[],
  alike: (one: T) => unknown,
  words: (one: T) => string,
): Told<T>[] {
  const known = new Map<string, Told<T>>()
  for (const one of list) {
    const fleet = fleetOf(one.environment) || one.environment
    const key = fleet + '\0' + unnamed(JSON.stringify(alike(one)), one.environment)
    const told = known.get(key)
    if (!told) {
      known.set(key, { places: [one.environment], first: one, example: false })
      continue
    }
    told.places.push(one.environment)
    told.example ||= unnamed(words(one), one.environment) !== unnamed(words(told.first), told.first.environment)
  }
  return [...known.values()]
}

/** A text about a place as it is said of all targets of its environment. */
function unnamed(text: string, place: string): string {
  const whole = new RegExp(`(?<![a-z0-9-])${place.replace('.', '\\.')}(?![a-z0-9-])`, 'g')
  return text.replace(whole, fleetOf(place) || place)
}

/** Names targets by their own names: the first few, and how many more there are. */
export function some(places: string[]): string {
  const names = places.slice(0, most).map(targetOf)
  if (places.length > most) names.push(`${places.length - most} more`)
  return names.join(', ')
}
