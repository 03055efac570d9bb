import { answer, api, type Me } from './api';

/** Who is signed in: undefined while it is not known yet, null for nobody. */
export const session = $state<{ me: Me | null | undefined }>({ me: undefined });

export async function whoAmI() {
  try {
    session.me = await answer(api.GET('/me'));
  } catch {
    session.me = null;
  }
}

export async function signIn(token: string) {
  session.me = await answer(api.POST('/session', { body: { token: token.trim() } }));
}

export async function signOut() {
  await answer(api.DELETE('/session'));
  session.me = null;
}
