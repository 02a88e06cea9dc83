/** What a line of a picture is: a stroke in its colour, and a name. */
export function Key({
  colour,
  label,
  style = 'solid',
  width = 2,
}: {
  colour: string;
  label: string;
  style?: 'solid' | 'dashed' | 'dotted';
  width?: number;
}) {
  return (
    <span className="flex items-center gap-1.5 text-[13px]">
      <span className="w-5" style={{ borderTop: `${width}px ${style} ${colour}` }} />
      {label}
    </span>
  );
}
