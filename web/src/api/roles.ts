/** Who may do what; the server holds to it whatever is shown here. */
import { useQuery } from '@tanstack/react-query';
import { useHere } from '../ui/here';
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

/** The own role in the open portfolio, while it is known. */
export function useRole(): Role | undefined {
  const { portfolio } = useHere();
  return useQuery(portfolios).data?.find((one) => one.id === portfolio)?.role;
}
