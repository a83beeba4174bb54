import { Dialog as Radix } from 'radix-ui';
import { type ReactNode, useState } from 'react';

interface Props {
  open: boolean;
  onClose: () => void;
  title: string;
  about?: string;
  children: ReactNode;
  footer: ReactNode;
  width?: number;
}

/**
 * A dialog with a title, a body and buttons at its foot. Once something was entered it is not closed by a click beside
 * it, and the escape key asks first.
 */
export function Dialog({ open, onClose, title, about, children, footer, width = 520 }: Props) {
  const [entered, setEntered] = useState(false);
  const [asked, setAsked] = useState(false);
  const close = () => {
    if (entered && !asked) return setAsked(true);
    setEntered(false);
    setAsked(false);
    onClose();
  };
  return (
    <Radix.Root open={open} onOpenChange={(o) => !o && close()}>
      <Radix.Portal>
        <Radix.Overlay className="scrim" />
        <Radix.Content
          className="dialog"
          style={{ width }}
          onInput={() => {
            setEntered(true);
            setAsked(false);
          }}
          onSubmit={() => setEntered(false)}
          onInteractOutside={(e) => entered && e.preventDefault()}
          {...(about ? {} : { 'aria-describedby': undefined })}
        >
          <header>
            <Radix.Title asChild>
              <h2>{title}</h2>
            </Radix.Title>
          </header>
          <div>
            {about ? <Radix.Description className="mb-10">{about}</Radix.Description> : null}
            {children}
            {asked ? (
              <p className="small bad mt-10" role="status">
                What you entered is not saved. Escape once more throws it away.
              </p>
            ) : null}
          </div>
          <footer>{footer}</footer>
        </Radix.Content>
      </Radix.Portal>
    </Radix.Root>
  );
}
