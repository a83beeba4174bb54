import { Tooltip } from 'radix-ui';
import type { ReactElement } from 'react';

/** Says more about what one points at or has the focus. */
export const Hint = ({ says, children }: { says: string; children: ReactElement }) => (
  <Tooltip.Root>
    <Tooltip.Trigger asChild>{children}</Tooltip.Trigger>
    <Tooltip.Portal>
      <Tooltip.Content className="hintbox" sideOffset={4} collisionPadding={8}>
        {says}
      </Tooltip.Content>
    </Tooltip.Portal>
  </Tooltip.Root>
);
