import { fireEvent, render, screen, within } from '@testing-library/react';
import { useState } from 'react';
import { describe, expect, it } from 'vitest';
import { Chips } from './chips';
import { TryControls } from './controls';

/** The controls with the text that they change, as Try it holds it. */
function Held({ text, seasonal = true }: { text: string; seasonal?: boolean }) {
  const [now, setNow] = useState(text);
  return (
    <>
      <TryControls
        text={now}
        estimates={{ alpha: 0.31, beta: 0.02, level: 123.456 }}
        noun="week"
        seasonal={seasonal}
        onChange={setNow}
      />
      <output data-testid="text">{now}</output>
    </>
  );
}

const open = (text: string, seasonal?: boolean) =>
  render(<Held text={text} {...(seasonal === undefined ? {} : { seasonal })} />);
const text = () => screen.getByTestId('text').textContent;
const choose = (label: string, value: string) =>
  fireEvent.change(screen.getByLabelText(label), { target: { value } });
const turn = (label: string, value: string) =>
  fireEvent.change(screen.getByRole('slider', { name: label }), { target: { value } });

describe('the controls of a try', () => {
  it('write every choice down in the notation', () => {
    open('ets(A,N,N)');
    choose('Trend', 'Ad');
    choose('Season', 'M');
    choose('Errors', 'M');
    expect(text()).toBe('ets(M,Ad,M)');
    turn('level weight α', '0.4');
    turn('damping φ', '0.9');
    expect(text()).toBe('ets(M,Ad,M; alpha=0.4, phi=0.9)');
    expect(screen.getByText('90 % of the weight on the last 5 weeks')).toBeDefined();
    expect(screen.getByText('half of the slope is gone after 7 weeks')).toBeDefined();
  });

  it('give a weight by hand from where it was estimated, and let it be estimated again', () => {
    open('ets(A,N,N)');
    const estimate = screen.getByRole('checkbox', { name: 'estimate' });
    fireEvent.click(estimate);
    expect(text()).toBe('ets(A,N,N; alpha=0.31)');
    fireEvent.change(screen.getByLabelText('level weight α, number'), { target: { value: '7' } });
    expect(text()).toBe('ets(A,N,N; alpha=1)'); // no weight goes beyond one
    fireEvent.click(screen.getByRole('checkbox', { name: 'estimate' }));
    expect(text()).toBe('ets(A,N,N)');
  });

  it('move what α leaves open to the others along with it', () => {
    open('ets(A,A,A; alpha=0.5, beta=0.4, gamma=0.5)');
    turn('level weight α', '0.2');
    expect(text()).toBe('ets(A,A,A; alpha=0.2, beta=0.2, gamma=0.5)');
    turn('level weight α', '0.9');
    expect(text()).toBe('ets(A,A,A; alpha=0.9, beta=0.2, gamma=0.1)');
  });

  it('start from the first value, the first season, or a level that is given', () => {
    open('ets(A,N,A)');
    choose('Start', 'season');
    choose('Constants not given', 'MAE');
    expect(text()).toBe('ets(A,N,A; start=season, tune=MAE)');
    choose('Season', 'N'); // there is no first season any more
    expect(text()).toBe('ets(A,N,N)');
    choose('Start', 'level');
    expect(text()).toBe('ets(A,N,N; level=123.5)');
    fireEvent.change(screen.getByLabelText('Starting level'), { target: { value: '90' } });
    expect(text()).toBe('ets(A,N,N; level=90)');
  });

  it('offer a season beside the states only where one can stand there', () => {
    open('ets(A,N,N; start=first)');
    choose('Yearly season beside it', 'shared-season');
    expect(text()).toBe('ets(A,N,N) + shared-season');
    expect(screen.queryByLabelText('Start')).toBeNull();
    choose('Season', 'A');
    expect(text()).toBe('ets(A,N,A)');
    expect(screen.queryByLabelText('Yearly season beside it')).toBeNull();
  });

  it('offer no season where the data have none', () => {
    open('ets(A,N,N)', false);
    expect(screen.queryByLabelText('Season')).toBeNull();
    choose('Start', 'first');
    expect(screen.queryByRole('option', { name: 'from the first season' })).toBeNull();
  });

  it('keep pooled effects until they are taken away', () => {
    open('ets(A,N,N) + shared-season + pooled(log price, promotion)');
    choose('Trend', 'A');
    expect(text()).toBe('ets(A,A,N) + shared-season + pooled(log price, promotion)');
    fireEvent.click(screen.getByRole('checkbox', { name: /^Effects of drivers/ }));
    expect(text()).toBe('ets(A,A,N) + shared-season');
  });

  it('change to simple methods and their own choices', () => {
    open('ets(A,N,N)');
    choose('Method', 'moving-average');
    expect(text()).toBe('moving-average(4)');
    choose('Window, weeks (empty: chosen by error)', '');
    expect(text()).toBe('moving-average(best)');
    choose('Method', 'trend');
    choose('Line', 'quadratic');
    fireEvent.click(screen.getByRole('checkbox', { name: 'times seasonal indices' }));
    expect(text()).toBe('trend(quadratic; indices)');
    choose('Method', 'tsb');
    expect(text()).toBe('tsb');
  });

  it('take any text that is written, and show no controls for what they cannot say', () => {
    open('ets(A,N,N)');
    const notation = screen.getByLabelText('Method in notation');
    fireEvent.change(notation, { target: { value: 'arima(1,0,1)(0,1,1)52' } });
    fireEvent.blur(notation);
    expect(text()).toBe('arima(1,0,1)(0,1,1)52');
    expect(screen.getByLabelText('Method')).toHaveProperty('value', 'written');
    expect(screen.queryByLabelText('Trend')).toBeNull();
  });
});

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
