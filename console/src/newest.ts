/**
 * Tells late answers from the newest: each call counts as a question, and gives a
 * test that holds as long as no newer question was put.
 */
export function useNewest(): () => () => boolean {
  let newest = 0
  return () => {
    const own = ++newest
    return () => own === newest
  }
}
