import type { ReactNode } from 'react';

/** Facts: labels left, values right of a fixed line. Those without a value are left out. */
export const Facts = ({ children, className = 'pt-6' }: { children: ReactNode; className?: string }) => (
  <dl className={`facts ${className}`}>{children}</dl>
);

interface FactProps {
  name: ReactNode;
  children: ReactNode;
  className?: string;
  title?: string;
}

export const Fact = ({ name, children, className, title }: FactProps) =>
  children === undefined || children === null || children === '' ? null : (
    <div className="contents">
      <dt>{name}</dt>
      <dd className={className} title={title}>
        {children}
      </dd>
    </div>
  );
