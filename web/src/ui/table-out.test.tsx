import { fireEvent, render, screen } from '@testing-library/react';
import { describe, expect, it, vi } from 'vitest';
import { asCells, asCsv, TableOut } from './table-out';

describe('taking a table along', () => {
  it('puts tabs between cells, and leaves empty what has no value', () => {
    expect(
      asCells([
        ['Period', 'Units'],
        ['2026-W01', null],
        ['2026-W02', 0],
      ]),
    ).toBe('Period\tUnits\n2026-W01\t\n2026-W02\t0');
  });

  it('quotes what a CSV reader would cut in two', () => {
    expect(asCsv([['Fern, large', 'a "tall" one', 'two\nlines', -1.5]])).toBe(
      '"Fern, large","a ""tall"" one","two\nlines",-1.5\r\n',
    );
  });

  it('makes no formula of a text, and leaves numbers alone', () => {
    expect(asCsv([['=1+1', '@a', '-x', '-1.5', -2]])).toBe("'=1+1,'@a,'-x,-1.5,-2\r\n");
    expect(asCells([['=1+1', '+44']])).toBe("'=1+1\t+44");
  });

  it('copies with the headers as cells, and makes the rows only then', async () => {
    const writeText = vi.fn(async () => {});
    vi.stubGlobal('navigator', { clipboard: { writeText } });
    const kept: Blob[] = [];
    const names: string[] = [];
    URL.createObjectURL = (file) => `blob:${kept.push(file as Blob)}`;
    URL.revokeObjectURL = () => {};
    vi.spyOn(HTMLAnchorElement.prototype, 'click').mockImplementation(function (this: HTMLAnchorElement) {
      names.push(this.download);
    });
    const rows = vi.fn(() => [['2026-W01', 3]]);
    render(<TableOut name="Forecast" head={['Period', 'Units']} rows={rows} />);
    expect(rows).not.toHaveBeenCalled();
    fireEvent.click(screen.getByRole('button', { name: 'Copy: Forecast' }));
    expect(await screen.findByText('Copied')).toBeDefined();
    expect(writeText).toHaveBeenCalledWith('Period\tUnits\n2026-W01\t3');
    fireEvent.click(screen.getByRole('button', { name: 'CSV: Forecast' }));
    expect(await kept[0]?.text()).toBe('Period,Units\r\n2026-W01,3\r\n');
    expect(names).toEqual(['Forecast.csv']);
  });

  it('says so where the browser does not allow copying', async () => {
    vi.stubGlobal('navigator', { clipboard: { writeText: () => Promise.reject(new Error('denied')) } });
    render(<TableOut name="Forecast" head={['Period']} rows={() => []} csv="/api/file.csv" />);
    fireEvent.click(screen.getByRole('button', { name: 'Copy: Forecast' }));
    expect(await screen.findByText('The browser does not allow copying')).toBeDefined();
    expect(screen.getByRole('link', { name: 'CSV' }).getAttribute('href')).toBe('/api/file.csv');
  });
});
