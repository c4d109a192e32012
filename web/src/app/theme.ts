/** Light or dark: as the reader's system says, unless chosen here. */
export type Light = 'light' | 'dark' | 'system'
const KEY = 'fair-ladle-light'

export function chosenLight(): Light {
  const kept = localStorage.getItem(KEY)
  return kept === 'light' || kept === 'dark' ? kept : 'system'
}

function apply(): void {
  const light = chosenLight()
  const dark = light === 'dark' || (light === 'system' && matchMedia('(prefers-color-scheme: dark)').matches)
  document.documentElement.dataset.bsTheme = dark ? 'dark' : 'light'
}

export function chooseLight(light: Light): void {
  localStorage.setItem(KEY, light)
  apply()
}

export function followTheme(): void {
  apply()
  matchMedia('(prefers-color-scheme: dark)').addEventListener('change', apply)
}
