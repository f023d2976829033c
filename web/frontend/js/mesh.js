// A packed mesh as the server sends it.

/** Take apart what the server packed. @param {ArrayBuffer} data */
export function unpack(data) {
  const size = new DataView(data).getUint32(0, true);
  const head = JSON.parse(new TextDecoder().decode(new Uint8Array(data, 4, size)));
  const types = { float32: Float32Array, uint32: Uint32Array };
  const array = (entry) => new types[entry.type](data, 4 + size + entry.offset, entry.count);
  return head.bodies.map((body) =>
    Object.fromEntries(Object.entries(body).map(([key, value]) => [key, value?.type ? array(value) : value])),
  );
}
