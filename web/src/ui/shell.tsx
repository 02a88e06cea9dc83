/** The side rail with the six places, and the open one beside it. */
import { useQuery, useQueryClient } from '@tanstack/react-query';
import { useEffect, useState } from 'react';
import { Link, Navigate, NavLink, Outlet, useLocation, useNavigate, useParams } from 'react-router';
import { api } from '../api/client';
import { oneStudy, PAGE, portfolios, releases, session, studies } from '../api/queries';
import { count } from './format';
import { useHere } from './here';
import { KeysDialog } from './keys';
import { PasswordButton } from './password';
import { SearchDialog } from './search';
import { Empty, Failed, Loading } from './states';
import { currentTheme, keepTheme, type Theme } from './theme';
import { typing } from './typing';

export function Shell() {
  const who = useQuery(session);
  const { pathname, search, hash } = useLocation();
  const [open, setOpen] = useState<'search' | 'keys' | null>(null);
  useEffect(() => {
    const onKey = (event: KeyboardEvent) => {
      if (typing(event) || event.ctrlKey || event.metaKey || event.altKey) return;
      if (event.key === '/' || event.key === '?') {
        event.preventDefault();
        setOpen(event.key === '/' ? 'search' : 'keys');
      }
    };
    window.addEventListener('keydown', onKey);
    return () => window.removeEventListener('keydown', onKey);
  }, []);
  if (who.isPending) return <Loading what="Tansy" />;
  if (who.isError) return <Failed error={who.error} retry={() => void who.refetch()} />;
  if (!who.data.user) return <Navigate to="/sign-in" state={{ from: pathname + search + hash }} replace />;
  return (
    <div className="flex h-screen min-w-[1024px]">
      <a
        href="#content"
        className="sr-only focus:not-sr-only focus:absolute focus:z-10 focus:bg-base-100 focus:p-2"
      >
        Skip to the content
      </a>
      <Rail user={who.data.user} open={setOpen} />
      <div id="content" className="flex min-w-0 flex-1">
        <Known />
      </div>
      {open === 'search' && <SearchDialog close={() => setOpen(null)} />}
      {open === 'keys' && <KeysDialog close={() => setOpen(null)} />}
    </div>
  );
}

/** The open place, where its address names a portfolio that is there, and a study of that portfolio. */
function Known() {
  const params = useParams();
  const portfolio = params.portfolio === undefined ? undefined : Number(params.portfolio);
  const all = useQuery(portfolios).data;
  const known = portfolio === undefined || !all || all.some((one) => one.id === portfolio);
  const list = useQuery({ ...studies(portfolio ?? 0), enabled: portfolio !== undefined && known }).data;
  const asked = params.study === undefined ? undefined : Number(params.study);
  const listed = list?.some((one) => one.id === asked);
  const older = useQuery({
    ...oneStudy(asked ?? 0),
    enabled: asked !== undefined && listed === false && (list?.length ?? 0) >= PAGE,
  });
  if (!known)
    return (
      <Empty title="There is no such portfolio">
        It may have been deleted, or the address mistyped.{' '}
        <Link className="link" to="/">
          Go to the newest portfolio
        </Link>
        .
      </Empty>
    );
  if (asked !== undefined && listed === false && !older.isLoading && older.data?.portfolio !== portfolio)
    return (
      <Empty title="There is no such study in this portfolio">
        It may have been deleted, or belong to another portfolio.{' '}
        <Link className="link" to={`/p/${portfolio}/study`}>
          See the studies of this portfolio
        </Link>
        .
      </Empty>
    );
  return <Outlet />;
}

function Rail({ user, open }: { user: string; open: (what: 'search' | 'keys') => void }) {
  const { portfolio, study } = useHere();
  const all = useQuery(portfolios).data;
  const list = useQuery({ ...studies(portfolio ?? 0), enabled: portfolio !== undefined }).data;
  const published = useQuery({ ...releases(portfolio ?? 0), enabled: portfolio !== undefined }).data;
  const params = useParams();
  const current = all?.find((one) => one.id === portfolio);
  const running = list?.find((one) => one.run.state === 'running' || one.run.state === 'queued');
  const { pathname } = useLocation();
  const inIntake = /^\/intake|^\/p\/\d+\/(intake|append)/.test(pathname); // reviews and later actuals too
  const base = `/p/${portfolio}`;
  const inStudy = (place: string) => (study === undefined ? `${base}/study` : `${base}/s/${study}/${place}`);
  const places: { to: string; label: string; note?: string | undefined; on: boolean }[] = [
    {
      to: portfolio === undefined ? '/intake' : `${base}/intake`,
      label: 'Intake',
      note: current ? `${current.load.last} loaded` : 'nothing loaded yet',
      on: true,
    },
    {
      to: `${base}/study`,
      label: 'Study',
      note: running ? runNote(running.run.step, running.run.done, running.run.of) : studyNote(list?.length),
      on: portfolio !== undefined,
    },
    {
      to: inStudy('field'),
      label: 'Field',
      note: current && `${count(current.load.n_series)} series`,
      on: study !== undefined,
    },
    { to: inStudy(`series/${params.node ?? 'top'}`), label: 'Series', on: study !== undefined },
    { to: inStudy('structure'), label: 'Structure', on: study !== undefined },
    { to: inStudy('backtest'), label: 'Backtest', on: study !== undefined },
    {
      to: `${base}/releases`,
      label: 'Releases',
      note: published?.[0] ? `R${published[0].number} from ${published[0].origin}` : undefined,
      on: study !== undefined,
    },
  ];
  return (
    <nav
      aria-label="Places"
      className="flex w-[132px] shrink-0 flex-col overflow-y-auto border-r border-rule"
    >
      <Link to="/" className="flex items-center gap-2 px-[15px] pt-3 pb-4 text-base font-semibold">
        <img src="/static/mark.svg" alt="" width="20" height="20" />
        Tansy
      </Link>
      <ul>
        {places.map((place) => (
          <li key={place.label}>
            {place.on ? (
              <NavLink
                to={place.to}
                className={({ isActive }) =>
                  `block border-l-[3px] py-2 pl-[14px] pr-2 leading-tight ${
                    isActive || (place.label === 'Intake' && inIntake)
                      ? 'border-base-content bg-raised font-semibold'
                      : 'border-transparent hover:bg-raised'
                  }`
                }
              >
                {place.label}
                {place.note && (
                  <span className="block pt-1 text-xs font-normal text-second">{place.note}</span>
                )}
              </NavLink>
            ) : (
              <span className="block border-l-[3px] border-transparent py-2 pl-[14px] leading-tight text-second">
                {place.label}
              </span>
            )}
          </li>
        ))}
      </ul>
      <div className="mt-auto space-y-2 px-[14px] py-3 text-xs text-second">
        <PortfolioPicker current={portfolio} />
        <div className="flex flex-wrap gap-x-3 gap-y-1">
          <button type="button" className="cursor-pointer hover:underline" onClick={() => open('search')}>
            / search
          </button>
          <button type="button" className="cursor-pointer hover:underline" onClick={() => open('keys')}>
            ? keys
          </button>
        </div>
        {current && (
          <p>
            <NavLink to={`${base}/people`} className="hover:underline" title="Who may do what, and who did">
              people
            </NavLink>{' '}
            · you are a {current.role}
          </p>
        )}
        <div className="flex flex-wrap gap-x-3 gap-y-1">
          <ThemeButton />
          <PasswordButton />
          <SignOut user={user} />
        </div>
      </div>
    </nav>
  );
}

function runNote(step: string, done: number, of: number): string {
  if (!step) return 'queued';
  return of > 0 ? `running, ${Math.floor((100 * done) / of)} %` : `running: ${step}`;
}

function studyNote(n: number | undefined): string | undefined {
  if (n === undefined) return undefined;
  return n === 0 ? 'none yet' : `${n} so far`;
}

function PortfolioPicker({ current }: { current: number | undefined }) {
  const all = useQuery(portfolios).data;
  const navigate = useNavigate();
  if (!all || all.length < 2) return null;
  return (
    <label className="block">
      Portfolio
      <select
        className="select select-xs mt-1 w-full truncate pr-7!"
        value={current}
        title={all.find((one) => one.id === current)?.name}
        onChange={(event) => navigate(`/p/${event.target.value}/study`)}
      >
        {all.map((one) => (
          <option key={one.id} value={one.id}>
            {one.name}
          </option>
        ))}
      </select>
    </label>
  );
}

function ThemeButton() {
  const [theme, setTheme] = useState<Theme>(currentTheme());
  const other = theme === 'paper' ? 'night' : 'paper';
  return (
    <button
      type="button"
      className="cursor-pointer hover:underline"
      onClick={() => {
        keepTheme(other);
        setTheme(other);
      }}
    >
      {other === 'night' ? 'dark' : 'light'}
    </button>
  );
}

function SignOut({ user }: { user: string }) {
  const client = useQueryClient();
  const navigate = useNavigate();
  return (
    <button
      type="button"
      className="cursor-pointer hover:underline"
      title={`Signed in as ${user}`}
      onClick={async () => {
        await api.DELETE('/api/session/');
        client.clear();
        navigate('/sign-in');
      }}
    >
      sign out
    </button>
  );
}
