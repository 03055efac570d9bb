import { get, post, remove, type Me } from './api';

/** Who is signed in: undefined while it is not known yet, null for nobody. */
export const session = $state<{ me: Me | null | undefined }>({ me: undefined });

export async function whoAmI() {
  try {
    session.me = await get<Me>('/me');
  } catch {
    session.me = null;
  }
}

export async function signIn(token: string) {
  session.me = await post<Me>('/session', { token: token.trim() });
}

export async function signOut() {
  await remove('/session');
  session.me = null;
}
