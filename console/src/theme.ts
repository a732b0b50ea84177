import { ref } from 'vue'

export type Theme = 'light' | 'dark'

const stored = localStorage.getItem('theme')
export const theme = ref<Theme>(
  stored === 'dark' || stored === 'light'
    ? stored
    : matchMedia('(prefers-color-scheme: dark)').matches
      ? 'dark'
      : 'light',
)

export function applyTheme() {
  document.documentElement.classList.toggle('dark', theme.value === 'dark')
}

export function switchTheme() {
  theme.value = theme.value === 'dark' ? 'light' : 'dark'
  localStorage.setItem('theme', theme.value)
  applyTheme()
}
