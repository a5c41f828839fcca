// The token with which the console reaches a service that asks for one. It lives
// as long as the tab.
const key = 'soba.token';

export const access = $state({ token: sessionStorage.getItem(key) ?? '', needed: false });

export function useToken(token: string): void {
  sessionStorage.setItem(key, token);
  access.token = token;
  access.needed = false;
}
