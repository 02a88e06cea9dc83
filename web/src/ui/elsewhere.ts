/** Signing in by the provider of the organisation: the browser goes there, and comes back. */
import { useMutation } from '@tanstack/react-query';
import { api, body } from '../api/client';

/** Of somebody who is signed in, it connects them with the provider. */
export function useElsewhere() {
  return useMutation({
    mutationFn: () => body(api.POST('/api/session/elsewhere/')),
    onSuccess: ({ address }) => window.location.assign(address),
  });
}
