/** A file that was chosen, with its octets as base64. */
export type Chosen = { name: string; data: string };

/** readFile reads the file of a field, for a request. */
export async function readFile(input: HTMLInputElement): Promise<Chosen | null> {
  const file = input.files?.[0];
  if (!file) return null;
  const bytes = new Uint8Array(await file.arrayBuffer());
  let s = '';
  for (let i = 0; i < bytes.length; i += 0x8000) s += String.fromCharCode(...bytes.subarray(i, i + 0x8000));
  return { name: file.name, data: btoa(s) };
}
