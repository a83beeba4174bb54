import { Link } from 'react-router';

export default function Nowhere() {
  return (
    <>
      <h1>There is no such page</h1>
      <p className="dim">
        Go to the <Link to="/">overview</Link> or to the <Link to="/buckets">buckets</Link>.
      </p>
    </>
  );
}
