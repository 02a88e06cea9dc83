/** Colours of the current theme, read from the style sheet so that charts and screens never differ. */
import { useEffect, useState } from 'react';
import { fixed } from '../ui/format';

export interface Colours {
  paper: string;
  ink: string;
  second: string;
  rule: string;
  forecast: string;
  band80: string;
  band95: string;
  band50: string;
  plum: string;
  plum50: string;
  plum80: string;
  plum95: string;
  moss: string;
  teal: string;
  brick: string;
  spreadOuter: string;
  spreadInner: string;
}

export function readColours(): Colours {
  const style = getComputedStyle(document.documentElement);
  const value = (name: string) => style.getPropertyValue(name).trim();
  return {
    paper: value('--color-base-100'),
    ink: value('--color-base-content'),
    second: value('--second'),
    rule: value('--color-base-300'),
    forecast: value('--forecast'),
    band50: value('--band-50'),
    band80: value('--band-80'),
    band95: value('--band-95'),
    plum: value('--color-secondary'),
    plum50: value('--plum-50'),
    plum80: value('--plum-80'),
    plum95: value('--plum-95'),
    moss: value('--color-success'),
    teal: value('--color-accent'),
    brick: value('--color-error'),
    spreadOuter: value('--spread-outer'),
    spreadInner: value('--spread-inner'),
  };
}

/** How every chart writes what is under the pointer. */
export function tooltip(colours: Colours, digits: number) {
  return {
    trigger: 'axis',
    backgroundColor: colours.paper,
    borderColor: colours.rule,
    textStyle: { color: colours.ink, fontSize: 12 },
    valueFormatter: (value: unknown) => (typeof value === 'number' ? fixed(value, digits) : '–'),
  };
}

export function useColours(): Colours {
  const [colours, setColours] = useState(readColours);
  useEffect(() => {
    const again = () => setColours(readColours());
    window.addEventListener('tansy-theme', again);
    return () => window.removeEventListener('tansy-theme', again);
  }, []);
  return colours;
}
