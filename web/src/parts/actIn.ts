import { useNavigate } from 'react-router';

import { useSwitch } from '../data/session';
import { useToast } from './Toasts';

/** Acts in another account, and goes to a page of it; to the overview when none is named. */
export function useActIn() {
  const change = useSwitch();
  const navigate = useNavigate();
  const toast = useToast();
  return async (account: string, page = '/') => {
    try {
      await change(account);
      void navigate(page);
      toast(`Acting in ${account} now`);
    } catch (e) {
      toast((e as Error).message);
    }
  };
}
