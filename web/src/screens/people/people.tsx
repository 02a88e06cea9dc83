/** Who may do what in a portfolio, who may come in at all, and who did what. */
import { useInfiniteQuery, useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';
import { useParams } from 'react-router';
import { api, body, type Schema } from '../../api/client';
import { portfolios, session } from '../../api/queries';
import { covers, ROLES, type Role, useRole } from '../../api/roles';
import { count, when } from '../../ui/format';
import { Page } from '../../ui/page';
import { Failed, Loading, Refused } from '../../ui/states';
import { Everybody } from './everybody';
import { type Invited, NameField, TheLink } from './link';
import { members, trail } from './queries';

export function People() {
  const portfolio = Number(useParams().portfolio);
  const who = useQuery(session).data;
  const role = useRole();
  const name = useQuery(portfolios).data?.find((one) => one.id === portfolio)?.name;
  const keeps = role !== undefined && covers(role, 'keeper');
  return (
    <Page title="People">
      <div className="space-y-7 p-[18px]">
        <Members portfolio={portfolio} name={name ?? ''} keeps={keeps} />
        {who?.administrator && <Everybody me={who.user ?? ''} />}
        {keeps && <TrailOf portfolio={portfolio} everything={who?.administrator ?? false} />}
      </div>
    </Page>
  );
}

function Members({ portfolio, name, keeps }: { portfolio: number; name: string; keeps: boolean }) {
  const asked = members(portfolio);
  const list = useQuery(asked);
  const client = useQueryClient();
  const [invited, setInvited] = useState<Invited | null>(null);
  const refresh = () => {
    for (const queryKey of [asked.queryKey, ['people'], ['portfolios'], ['trail']])
      client.invalidateQueries({ queryKey });
  };
  const path = (id: number) => ({ params: { path: { id } } });
  const change = useMutation({
    mutationFn: ({ id, role }: { id: number; role: Role }) =>
      body(api.PATCH('/api/members/{id}/', { ...path(id), body: { role } })),
    onSettled: refresh,
  });
  const take = useMutation({
    mutationFn: (id: number) => api.DELETE('/api/members/{id}/', path(id)),
    onSettled: refresh,
  });
  const again = useMutation({
    mutationFn: (id: number) => body(api.POST('/api/members/{id}/link/', path(id))),
    onSuccess: setInvited,
    onSettled: refresh,
  });
  if (list.isError) return <Failed error={list.error} retry={() => void list.refetch()} />;
  if (list.isPending) return <Loading what="who may do what" />;
  return (
    <section aria-labelledby="members" className="max-w-[860px]">
      <h2 id="members" className="mb-1 text-base font-semibold">
        Who may do what in {name}
      </h2>
      <dl className="mb-3 flex flex-wrap gap-x-5 text-[13px] text-second">
        {ROLES.map((one) => (
          <div key={one.role}>
            <dt className="inline font-semibold text-base-content">{one.role}</dt>{' '}
            <dd className="inline">{one.may}</dd>
          </div>
        ))}
      </dl>
      {keeps && <Add portfolio={portfolio} added={setInvited} settled={refresh} />}
      {invited && <TheLink of={invited} />}
      <Refused of={[change, take, again]} />
      <table className="sheet">
        <thead>
          <tr>
            <th>Person</th>
            <th>Role</th>
            <th>Comes in</th>
            {keeps && <th>Change</th>}
          </tr>
        </thead>
        <tbody>
          {list.data.map((one) => (
            <tr key={one.id}>
              <td className="font-semibold">{one.name}</td>
              <td>
                {keeps ? (
                  <select
                    className="select select-xs w-[110px]"
                    aria-label={`Role of ${one.name}`}
                    value={one.role}
                    onChange={(event) => change.mutate({ id: one.id, role: event.target.value as Role })}
                  >
                    {ROLES.map(({ role }) => (
                      <option key={role}>{role}</option>
                    ))}
                  </select>
                ) : (
                  one.role
                )}
              </td>
              <td className={one.active && !one.invited ? '' : 'text-second'}>
                {!one.active ? 'not any more' : one.invited ? 'invited, not yet' : 'yes'}
              </td>
              {keeps && (
                <td className="space-x-3">
                  <button type="button" className="link" onClick={() => take.mutate(one.id)}>
                    Take out
                  </button>
                  {one.invited && one.active && (
                    <button type="button" className="link" onClick={() => again.mutate(one.id)}>
                      Another link
                    </button>
                  )}
                </td>
              )}
            </tr>
          ))}
        </tbody>
      </table>
      {list.data.length === 0 && (
        <p className="text-second">Nobody but administrators sees this portfolio yet.</p>
      )}
    </section>
  );
}

function Add({
  portfolio,
  added,
  settled,
}: {
  portfolio: number;
  added: (of: Invited | null) => void;
  settled: () => void;
}) {
  const [name, setName] = useState('');
  const [role, setRole] = useState<Role>('planner');
  const add = useMutation({
    mutationFn: (given: Schema['NewMemberRequest']) =>
      body(api.POST('/api/portfolios/{id}/members/', { params: { path: { id: portfolio } }, body: given })),
    onSuccess: (one) => {
      setName('');
      added(one.link === null ? null : { name: one.name, link: one.link });
    },
    onSettled: settled,
  });
  return (
    <>
      <form
        className="mb-3 flex flex-wrap items-center gap-3"
        onSubmit={(event) => {
          event.preventDefault();
          add.mutate({ name: name.trim(), role });
        }}
      >
        <NameField value={name} onChange={setName} />
        <label className="flex items-center gap-2 text-[13px] text-second">
          as
          <select
            className="select select-sm w-[120px] text-base-content"
            value={role}
            onChange={(event) => setRole(event.target.value as Role)}
          >
            {ROLES.map((one) => (
              <option key={one.role}>{one.role}</option>
            ))}
          </select>
        </label>
        <button type="submit" className="btn btn-sm" disabled={!name.trim() || add.isPending}>
          Add
        </button>
        <span className="text-[13px] text-second">Who is new gets a link to choose a password.</span>
      </form>
      <Refused of={[add]} className="mb-2" />
    </>
  );
}

function TrailOf({ portfolio, everything }: { portfolio: number; everything: boolean }) {
  const found = useInfiniteQuery(trail(portfolio));
  if (found.isError) return <Failed error={found.error} retry={() => void found.refetch()} />;
  if (found.isPending) return <Loading what="the trail" />;
  const rows = found.data.pages.flatMap((page) => page.traces);
  const all = found.data.pages[0]?.count ?? 0;
  return (
    <section aria-labelledby="trail" className="max-w-[860px]">
      <h2 id="trail" className="mb-1 text-base font-semibold">
        Who did what
      </h2>
      <p className="mb-2 text-second">
        Written down as it happens; nothing here can be changed or taken away.{' '}
        <a className="link" href={`/api/portfolios/${portfolio}/trail/file/`} download>
          CSV of this portfolio
        </a>
        {everything && (
          <>
            {' · '}
            <a className="link" href="/api/trail/file/" download>
              CSV of everything
            </a>
          </>
        )}
      </p>
      {rows.length === 0 ? (
        <p className="text-second">Nothing since the trail began.</p>
      ) : (
        <table className="sheet">
          <thead>
            <tr>
              <th>When</th>
              <th>Who</th>
              <th>Did</th>
            </tr>
          </thead>
          <tbody>
            {rows.map((one) => (
              <tr key={one.id}>
                <td className="whitespace-nowrap">{when(one.at)}</td>
                <td className="whitespace-nowrap">
                  {one.who}
                  {one.by && <span className="text-second"> by token {one.by}</span>}
                </td>
                <td>{one.words}</td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
      {found.hasNextPage && (
        <button
          type="button"
          className="btn btn-sm mt-2"
          disabled={found.isFetchingNextPage}
          onClick={() => void found.fetchNextPage()}
        >
          Earlier ones ({count(all - rows.length)})
        </button>
      )}
    </section>
  );
}
