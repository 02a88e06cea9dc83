/** Hand a text to the browser as a file to keep. */
export function saveFile(name: string, text: string): void {
  const address = URL.createObjectURL(new Blob([text], { type: 'text/csv' }));
  const link = document.createElement('a');
  link.href = address;
  link.download = name;
  link.click();
  URL.revokeObjectURL(address);
}
