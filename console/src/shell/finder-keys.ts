import { useEffect } from 'react';

/** useFinderKeys opens the finder by / where nobody is typing, and by Ctrl-K anywhere. */
export function useFinderKeys(open: () => void) {
  useEffect(() => {
    const press = (e: globalThis.KeyboardEvent) => {
      const typing =
        e.target instanceof HTMLElement &&
        (/INPUT|TEXTAREA|SELECT/.test(e.target.tagName) || e.target.isContentEditable);
      const slash = e.key === '/' && !typing && !e.ctrlKey && !e.metaKey && !e.altKey;
      if (!slash && !(e.key === 'k' && (e.ctrlKey || e.metaKey))) return;
      e.preventDefault();
      open();
    };
    window.addEventListener('keydown', press);
    return () => window.removeEventListener('keydown', press);
  });
}
