/** Options of the pictures that a test has drawn, newest last. */
export const drawn: { series: { name?: string; type: string }[] }[] = [];
