import './page-footer.css';

export function PageFooter({ holds }: { holds: number }) {
  return (
    <footer className="page-footer">
      <span>All times local. Cars close ten minutes before departure.</span>
      <span>{holds === 0 ? 'You have held no departure today.' : `Held by you today: ${holds}`}</span>
    </footer>
  );
}
