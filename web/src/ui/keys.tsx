import { Dialog } from './dialog';

const KEYS: [string, string][] = [
  ['/', 'search for a product or a place'],
  ['?', 'this list'],
  ['arrows', 'Field: move between cells · Series: move between origins'],
  ['Enter', 'Field: open the node'],
  ['space', 'Field: fold or unfold the row; with Shift, the column'],
  ['x', 'Field: mark the node, to adjust all that are marked; or click with Ctrl'],
  ['Ctrl+Z', 'while adjusting: undo; with Shift, redo'],
  ['j, k', 'the next, the one before: Series, Corrections'],
  ['d, s, l', 'Look: difference once more, the seasonal difference, logarithms'],
  ['a, d, o', 'Corrections: accept, leave as it is, open again'],
  ['1 to 4', 'Corrections: what to replace it by'],
  ['arrows, Enter', 'Coverage: move over the series, open one'],
  ['Escape', 'close what is open'],
];

export function KeysDialog({ close }: { close: () => void }) {
  return (
    <Dialog title="Keys" close={close}>
      <table className="sheet">
        <tbody>
          {KEYS.map(([key, what]) => (
            <tr key={what}>
              <td className="whitespace-nowrap">
                <kbd className="kbd kbd-sm">{key}</kbd>
              </td>
              <td>{what}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </Dialog>
  );
}
