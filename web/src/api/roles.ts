/** Who may do what; the server holds to it whatever is shown here. */
import { useQuery } from '@tanstack/react-query';
import { useParams } from 'react-router';
import type { Schema } from './client';
import { portfolios } from './queries';

export type Role = Schema['MemberRoleEnum'];

export const ROLES: { role: Role; may: string }[] = [
  { role: 'reader', may: 'sees everything and changes nothing' },
  { role: 'planner', may: 'also loads, corrects, plans, runs studies and adjusts' },
  { role: 'signer', may: 'also publishes and withdraws releases' },
  { role: 'keeper', may: 'also says who may do what, and which systems are told' },
];

const RANK = Object.fromEntries(ROLES.map(({ role }, rank) => [role, rank])) as Record<Role, number>;

export const covers = (role: Role, needed: Role) => RANK[role] >= RANK[needed];

/** Laid over a button that changes something: a reader finds it greyed, and why. */
export function useReader() {
  const reads = useRole() === 'reader';
  return reads ? { disabled: true, title: 'You are a reader here; planners do this' } : {};
}

/** The own role in the open portfolio, while it is known. */
export function useRole(): Role | undefined {
  const portfolio = Number(useParams().portfolio);
  return useQuery(portfolios).data?.find((one) => one.id === portfolio)?.role;
}
