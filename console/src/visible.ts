/**
 * Shows characters that a page would act on instead of showing them: control
 * characters, and those that set the direction of text (Unicode TR 55).
 */
// eslint-disable-next-line no-control-regex
const hidden = /[\u0000-\u0008\u000b-\u001f\u007f-\u009f\u061c\u200e\u200f\u2028-\u202e\u2066-\u2069]/g

function shown(character: string): string {
  const code = character.charCodeAt(0)
  if (code < 0x20) return '^' + String.fromCharCode(code + 0x40)
  if (code === 0x7f) return '^?'
  if (code < 0xa0) return 'M-^' + String.fromCharCode(code - 0x40)
  return `<U+${code.toString(16).toUpperCase().padStart(4, '0')}>`
}

/** Makes them visible in every text within a value, as the client does. */
export function visible<T>(value: T): T {
  if (typeof value === 'string') return value.replace(hidden, shown) as T
  if (Array.isArray(value)) return value.map(visible) as T
  if (value && typeof value === 'object')
    return Object.fromEntries(Object.entries(value).map(([key, of]) => [key, visible(of)])) as T
  return value
}
