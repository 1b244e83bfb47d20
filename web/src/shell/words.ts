/** Bytes in the unit that keeps the number short. */
export function bytes(n: number): string {
  if (n >= 1e9) return `${(n / 1e9).toFixed(1)} GB`
  if (n >= 1e6) return `${(n / 1e6).toFixed(0)} MB`
  return `${(n / 1e3).toFixed(0)} kB`
}

/** Seconds as an artist says them. */
export function duration(s: number): string {
  if (s < 90) return `${Math.round(s)} s`
  if (s < 5400) return `${Math.round(s / 60)} min`
  return `${(s / 3600).toFixed(1)} h`
}

/** A count in thousands or millions. */
export function count(n: number): string {
  if (n >= 1e6) return `${(n / 1e6).toFixed(2)} M`
  if (n >= 1e4) return `${(n / 1e3).toFixed(0)} k`
  return String(Math.round(n))
}

/** snake_case to a label. */
export function label(name: string): string {
  const words = name.replaceAll('_', ' ')
  return words.charAt(0).toUpperCase() + words.slice(1)
}
