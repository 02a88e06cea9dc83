/** What stands before the places: the mark, and a form below it. */
export function Door({ children }: { children: React.ReactNode }) {
  return (
    <main className="mx-auto mt-[14vh] w-[340px] p-4">
      <h1 className="mb-1 flex items-center gap-2 text-xl font-semibold">
        <img src="/static/mark.svg" alt="" width="26" height="26" />
        Tansy
      </h1>
      {children}
    </main>
  );
}
