/** The theme: day, night, or as the system says. */
export type Theme = 'system' | 'day' | 'night';

const key = 'welkin.theme';
const night = window.matchMedia('(prefers-color-scheme: dark)');

export const theme = $state({ chosen: (localStorage.getItem(key) as Theme | null) ?? 'system' });

function apply(): void {
  const dark = theme.chosen === 'night' || (theme.chosen === 'system' && night.matches);
  document.documentElement.dataset.mode = dark ? 'night' : 'day';
}

export function startTheme(): void {
  apply();
  night.addEventListener('change', apply);
}

export function chooseTheme(t: Theme): void {
  theme.chosen = t;
  localStorage.setItem(key, t);
  apply();
}
