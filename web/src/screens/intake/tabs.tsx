/** The pages of Intake, beside its title. */
import { NavLink } from 'react-router';

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
        </NavLink>
      ))}
    </nav>
  );
}
