import { cleanup, fireEvent, render, screen } from '@testing-library/react';
import { describe, expect, it, vi } from 'vitest';
import type { Schema } from '../../api/client';
import { OriginHandle } from './origin-handle';

const origins = ['2025-W42', '2025-W50', '2026-W06'].map((period, at): Schema['Origin'] => ({
  period,
  at,
  method: 'naive',
  brief: 'naive',
  missed: [],
  held: [],
  forecast: [],
  bands: [],
  wape: null,
}));
const ticks = [100, 200, 300].map((x, index) => ({ index, x }));

function handle(chosen: number | null) {
  const onChoose = vi.fn();
  render(
    <OriginHandle origins={origins} ticks={ticks} top={0} bottom={300} chosen={chosen} onChoose={onChoose} />,
  );
  return { onChoose, slider: screen.getByRole('slider') };
}

describe('the origin handle', () => {
  it('starts from the first or the last origin, and moves by key', () => {
    const { onChoose, slider } = handle(null);
    fireEvent.keyDown(slider, { key: 'ArrowRight' });
    fireEvent.keyDown(slider, { key: 'ArrowLeft' });
    expect(onChoose.mock.calls).toEqual([[0], [2]]);
  });

  it('moves wherever the focus is, but not in a dialog or a field; none chosen lies in its range', () => {
    const { onChoose, slider } = handle(null);
    expect(['min', 'now', 'max'].map((what) => slider.getAttribute(`aria-value${what}`))).toEqual([
      '0',
      '0',
      '3',
    ]);
    const dialog = document.body.appendChild(document.createElement('dialog'));
    const field = document.body.appendChild(document.createElement('input'));
    for (const inert of [dialog, field]) fireEvent.keyDown(inert, { key: 'ArrowRight' });
    expect(onChoose).not.toHaveBeenCalled();
    fireEvent.keyDown(document.body, { key: 'ArrowRight' });
    expect(onChoose.mock.calls).toEqual([[0]]);
    dialog.remove();
    field.remove();
  });

  it('stays within the tested origins, says which one, and lets go on Escape', () => {
    const { onChoose, slider } = handle(2);
    expect(slider.getAttribute('aria-valuetext')).toBe('2026-W06');
    fireEvent.keyDown(slider, { key: 'ArrowRight' });
    fireEvent.keyDown(slider, { key: 'ArrowLeft' });
    fireEvent.keyDown(slider, { key: 'Escape' });
    expect(onChoose.mock.calls).toEqual([[2], [1], [null]]);
  });

  it('takes the origin nearest to the pointer, and lets go of it on a second press', () => {
    HTMLElement.prototype.setPointerCapture = vi.fn();
    const first = handle(null);
    fireEvent.pointerDown(first.slider, { clientX: 260 });
    expect(first.onChoose).toHaveBeenLastCalledWith(2);
    cleanup();
    const second = handle(2);
    fireEvent.pointerDown(second.slider, { clientX: 310 });
    expect(second.onChoose).toHaveBeenLastCalledWith(null);
    fireEvent.pointerMove(second.slider, { clientX: 90, buttons: 1 });
    expect(second.onChoose).toHaveBeenLastCalledWith(0);
  });
});
