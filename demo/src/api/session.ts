import { request } from './request';

export interface Session {
  name: string;
  holds: number;
}

export function loadSession(): Promise<Session> {
  return request('/session');
}
