/** What a line of a picture is: a stroke in its colour, and a name. */
export function Key({ colour, label, dashed }: { colour: string; label: string; dashed?: boolean }) {
  return (
    <span className="flex items-center gap-1.5 text-[13px]">
      <span
        className="w-5 border-t-2"
        style={{ borderColor: colour, borderStyle: dashed ? 'dashed' : 'solid' }}
      />
      {label}
    </span>
  );
}
