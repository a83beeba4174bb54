export type Theme = 'light' | 'dark' | 'auto';

const name = 'spindle-theme';

export function storedTheme(): Theme {
  const t = localStorage.getItem(name);
  return t === 'light' || t === 'dark' ? t : 'auto';
}

/** Sets and keeps the theme; auto follows the system. */
export function applyTheme(t: Theme) {
  if (t === 'auto') {
    localStorage.removeItem(name);
    delete document.documentElement.dataset.theme;
  } else {
    localStorage.setItem(name, t);
    document.documentElement.dataset.theme = t;
  }
}
