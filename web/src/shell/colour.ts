/** Between linear light, as scenes hold it, and sRGB's code values, as screens take them (IEC 61966-2-1). */
const encoded = (v: number) => (v <= 0.0031308 ? 12.92 * v : 1.055 * v ** (1 / 2.4) - 0.055)
const linear = (v: number) => (v <= 0.04045 ? v / 12.92 : ((v + 0.055) / 1.055) ** 2.4)

export function hexOf(light: number[]): string {
  const bytes = light.map((v) => Math.round(255 * encoded(Math.min(Math.max(v, 0), 1))))
  return '#' + bytes.map((b) => b.toString(16).padStart(2, '0')).join('')
}

export function linearOf(hex: string): number[] {
  return [1, 3, 5].map((i) => +linear(parseInt(hex.slice(i, i + 2), 16) / 255).toFixed(5))
}
