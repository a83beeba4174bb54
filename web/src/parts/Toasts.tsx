import { Toast } from 'radix-ui';
import { type ReactNode, createContext, useCallback, useContext, useState } from 'react';

interface Shown {
  id: number;
  text: string;
}

const Context = createContext<(text: string) => void>(() => {});

/** Says something in passing. */
export const useToast = () => useContext(Context);

export function ToastProvider({ children }: { children: ReactNode }) {
  const [list, setList] = useState<Shown[]>([]);
  const say = useCallback(
    (text: string) => setList((l) => [...l.slice(-3), { id: Date.now() + Math.random(), text }]),
    [],
  );
  return (
    <Context value={say}>
      <Toast.Provider duration={5000} swipeDirection="right">
        {children}
        {list.map((t) => (
          <Toast.Root
            key={t.id}
            className="toast"
            onOpenChange={(open) => !open && setList((l) => l.filter((x) => x.id !== t.id))}
          >
            <Toast.Description>{t.text}</Toast.Description>
            <Toast.Close className="btn low">Close</Toast.Close>
          </Toast.Root>
        ))}
        <Toast.Viewport className="toasts" />
      </Toast.Provider>
    </Context>
  );
}
