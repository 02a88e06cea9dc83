import { fireEvent, render, screen, within } from '@testing-library/react';
import { useState } from 'react';
import { describe, expect, it } from 'vitest';
import { Chips } from './chips';

const text = () => screen.getByTestId('text').textContent;

describe('the methods beside each other', () => {
  function Row() {
    const [texts, setTexts] = useState(['naive', 'mean']);
    const [active, setActive] = useState(1);
    return (
      <>
        <Chips texts={texts} active={active} fallback="theta" onTexts={setTexts} onActive={setActive} />
        <output data-testid="text">{`${texts.join(' | ')} @${active}`}</output>
      </>
    );
  }

  it('are four at most, each new one a copy of the one worked on', () => {
    render(<Row />);
    fireEvent.click(screen.getByRole('button', { name: '+ one more' }));
    fireEvent.click(screen.getByRole('button', { name: '+ one more' }));
    expect(text()).toBe('naive | mean | mean | mean @3');
    expect(screen.queryByRole('button', { name: '+ one more' })).toBeNull();
    fireEvent.click(within(document.body).getByRole('button', { name: 'A naive' }));
    fireEvent.click(screen.getByRole('button', { name: 'remove A' }));
    expect(text()).toBe('mean | mean | mean @0');
  });

  it('are never less than one', () => {
    render(<Row />);
    fireEvent.click(screen.getByRole('button', { name: 'remove B' }));
    expect(text()).toBe('naive @0');
    expect(screen.queryByRole('button', { name: /^remove/ })).toBeNull();
  });
});
