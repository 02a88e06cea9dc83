/** Paper by day, night by choice or by the system's wish. */
export type Theme = 'paper' | 'night';

const KEY = 'tansy-theme';

export function currentTheme(): Theme {
  const kept = localStorage.getItem(KEY);
  if (kept === 'paper' || kept === 'night') return kept;
  return window.matchMedia?.('(prefers-color-scheme: dark)').matches ? 'night' : 'paper';
}

export function applyTheme(theme: Theme = currentTheme()): void {
  document.documentElement.dataset.theme = theme;
}

export function keepTheme(theme: Theme): void {
  localStorage.setItem(KEY, theme);
  applyTheme(theme);
  window.dispatchEvent(new Event('tansy-theme'));
}
