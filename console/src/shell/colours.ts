import { useState } from 'react';

/** useColours is whether the console is dark, and turns it the other way. */
export function useColours(): [dark: boolean, turn: () => void] {
  const [dark, setDark] = useState(document.documentElement.classList.contains('dark'));
  const turn = () => {
    const next = !dark;
    document.documentElement.classList.toggle('dark', next);
    document.documentElement.classList.toggle('light', !next);
    document.documentElement.style.colorScheme = next ? 'dark' : 'light';
    localStorage.setItem('colour-mode', next ? 'dark' : 'light');
    setDark(next);
  };
  return [dark, turn];
}
