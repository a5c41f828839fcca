// The chosen theme; empty follows the system.
const key = 'soba.theme';

export const theme = $state({ name: localStorage.getItem(key) ?? '' });

export function applyTheme(): void {
  if (theme.name) document.documentElement.dataset.theme = theme.name;
  else delete document.documentElement.dataset.theme;
}

export function isDark(): boolean {
  return theme.name ? theme.name === 'deep' : matchMedia('(prefers-color-scheme: dark)').matches;
}

export function toggleTheme(): void {
  theme.name = isDark() ? 'shoal' : 'deep';
  localStorage.setItem(key, theme.name);
  applyTheme();
}
