/** How a view was left, by its place in the browser's history: Back finds it again, a new visit begins anew. */
export function remember<T>(place: string, left: T): void {
  try {
    sessionStorage.setItem(place, JSON.stringify(left));
  } catch {
    // A full or forbidden storage costs the folds, nothing else.
  }
}

export function recall<T>(place: string): T | null {
  try {
    return JSON.parse(sessionStorage.getItem(place) ?? 'null') as T | null;
  } catch {
    return null;
  }
}
