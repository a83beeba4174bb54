import { Dialog } from './Dialog';

const keys: [string, string][] = [
  ['/', 'Go to an address'],
  ['?', 'These keys'],
  ['Up and Down', 'Move through a list of objects'],
  ['Space', 'Choose the object one is on'],
  ['Enter', 'Open it'],
  ['Del', 'Remove what is chosen; it asks first'],
  ['Esc', 'Close a dialog, leave a field'],
];

export const Keys = ({ onClose }: { onClose: () => void }) => (
  <Dialog
    open
    onClose={onClose}
    title="Keys"
    width={400}
    footer={
      <button type="button" className="btn" onClick={onClose}>
        Close
      </button>
    }
  >
    <dl className="facts">
      {keys.map(([k, what]) => (
        <div className="contents" key={k}>
          <dt>
            <span className="kbd">{k}</span>
          </dt>
          <dd>{what}</dd>
        </div>
      ))}
    </dl>
  </Dialog>
);
