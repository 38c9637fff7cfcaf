/** State shows the state of a group with a shape of its own beside the word. */
export function State({ state }: { state: string }) {
  return <span className={`mark ${state}`}>{state}</span>;
}
