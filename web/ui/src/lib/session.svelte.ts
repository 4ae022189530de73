import { client, onSignedOut, take, type Person } from './api/client';

/** Who is signed in; undefined while that is not known yet. */
export const session = $state<{ person: Person | null | undefined }>({ person: undefined });

const roles = ['reader', 'operator', 'builder', 'admin'];

/** may tells whether the person has at least a role. */
export function may(role: 'reader' | 'operator' | 'builder' | 'admin'): boolean {
  return !!session.person && roles.indexOf(session.person.role) >= roles.indexOf(role);
}

export async function loadSession(): Promise<void> {
  onSignedOut(() => (session.person = null));
  const s = await take(client.GET('/api/session'));
  session.person = s.person ?? null;
}

export async function signIn(login: string, password: string): Promise<void> {
  session.person = await take(client.POST('/api/session', { body: { login, password } }));
}

export async function signOut(): Promise<void> {
  await take(client.DELETE('/api/session'));
  session.person = null;
}
