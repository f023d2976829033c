// What a page shows, brought up to date by an answer that tells only the difference.

/**
 * Lists of shapes with the changed and new ones put in and those that went taken out.
 * @param {Record<string, any[]>} before
 * @param {Record<string, { put: any[], gone: string[] }>} told
 */
export function merged(before, told) {
  const parts = Object.entries(told).map(([part, { put, gone }]) => {
    const fresh = new Map(put.map((item) => [item.id, item]));
    const out = new Set(gone);
    const kept = before[part]
      .filter((item) => !out.has(item.id))
      .map((item) => {
        const now = fresh.get(item.id) ?? item;
        fresh.delete(item.id);
        return now;
      });
    return [part, [...kept, ...fresh.values()]];
  });
  return Object.fromEntries(parts);
}
