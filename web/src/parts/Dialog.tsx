import { Dialog as Radix } from 'radix-ui';
import type { ReactNode } from 'react';

interface Props {
  open: boolean;
  onClose: () => void;
  title: string;
  about?: string;
  children: ReactNode;
  footer: ReactNode;
  width?: number;
}

/** A dialog with a title, a body and buttons at its foot. */
export const Dialog = ({ open, onClose, title, about, children, footer, width = 520 }: Props) => (
  <Radix.Root open={open} onOpenChange={(o) => !o && onClose()}>
    <Radix.Portal>
      <Radix.Overlay className="scrim" />
      <Radix.Content className="dialog" style={{ width }} {...(about ? {} : { 'aria-describedby': undefined })}>
        <header>
          <Radix.Title asChild>
            <h2>{title}</h2>
          </Radix.Title>
        </header>
        <div>
          {about ? <Radix.Description className="mb-10">{about}</Radix.Description> : null}
          {children}
        </div>
        <footer>{footer}</footer>
      </Radix.Content>
    </Radix.Portal>
  </Radix.Root>
);
