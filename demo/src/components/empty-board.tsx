export function EmptyBoard({ problem }: { problem: string | null }) {
  return (
    <section className="card board board-empty">
      {problem ?? 'No departure matches. Choose another berth or search for something else.'}
    </section>
  );
}
