/** The pages of Intake, beside its title. */
import { useQuery } from '@tanstack/react-query';
import { NavLink } from 'react-router';
import { search } from '../../api/queries';
import { count } from '../../ui/format';

const PAGES = [
  { to: '', label: 'Loads' },
  { to: '/coverage', label: 'Coverage' },
  { to: '/all', label: 'All series' },
  { to: '/corrections', label: 'Corrections' },
  { to: '/ledger', label: 'Ledger' },
  { to: '/kinds', label: 'Kinds' },
  { to: '/plans', label: 'Plans' },
];

export function IntakeTabs({ portfolio }: { portfolio: number }) {
  const open = useQuery(search(portfolio)).data?.counts?.open ?? 0;
  return (
    <nav aria-label="Pages of Intake" className="flex gap-4 text-[13px]">
      {PAGES.map((page) => (
        <NavLink
          key={page.label}
          to={`/p/${portfolio}/intake${page.to}`}
          end
          className={({ isActive }) =>
            `border-b-2 px-0.5 py-1 ${
              isActive ? 'border-base-content' : 'border-transparent text-second hover:text-base-content'
            }`
          }
        >
          {page.label}
          {page.to === '/corrections' && open > 0 && (
            <span className="ml-1 text-second" title={`${count(open)} suspicious values to decide about`}>
              {count(open)}
            </span>
          )}
        </NavLink>
      ))}
    </nav>
  );
}
