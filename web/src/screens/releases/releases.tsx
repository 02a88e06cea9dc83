/** What would go out, the checks that must hold, and what went out before. */
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useMemo, useState } from 'react';
import { useParams, useSearchParams } from 'react-router';
import { api, body, type Schema } from '../../api/client';
import { releases as releasesQuery, session } from '../../api/queries';
import { covers, type Role, useRole } from '../../api/roles';
import { Chart } from '../../charts/chart';
import { useColours } from '../../charts/colours';
import { Key } from '../../charts/key';
import { totalOptions } from '../../charts/total';
import { Ask, Line } from '../../ui/ask';
import { Comments } from '../../ui/comments';
import { Dialog } from '../../ui/dialog';
import { count, when } from '../../ui/format';
import { useHere } from '../../ui/here';
import { Choice, Page } from '../../ui/page';
import { Empty, Failed, Loading, Refused } from '../../ui/states';
import { Adjustments } from '../adjust/adjustments';
import { Moved } from './moved';
import { draft as draftQuery } from './queries';
import { Tokens } from './tokens';
import { TrackPage } from './track';
import { Webhooks } from './webhooks';

const PAGES = [
  { value: 'out', label: 'Going out' },
  { value: 'track', label: 'Track' },
] as const;

export function Releases() {
  const portfolio = Number(useParams().portfolio);
  const { study } = useHere();
  const list = useQuery(releasesQuery(portfolio));
  const going = useQuery({ ...draftQuery(study ?? 0), enabled: study !== undefined });
  const client = useQueryClient();
  const [note, setNote] = useState('');
  const [search, setSearch] = useSearchParams();
  const me = useQuery(session).data?.user;
  const role = useRole();
  const may = (needed: Role) => role !== undefined && covers(role, needed);
  const prepare = useMutation({
    mutationFn: () =>
      body(api.POST('/api/studies/{id}/prepare/', { params: { path: { id: study ?? 0 } }, body: { note } })),
    onSettled: () => client.invalidateQueries({ queryKey: draftQuery(study ?? 0).queryKey }),
  });
  const publish = useMutation({
    mutationFn: () =>
      body(api.POST('/api/studies/{id}/publish/', { params: { path: { id: study ?? 0 } }, body: { note } })),
    onSuccess: () => setNote(''),
    onSettled: () => {
      client.invalidateQueries({ queryKey: releasesQuery(portfolio).queryKey });
      client.invalidateQueries({ queryKey: draftQuery(study ?? 0).queryKey });
      client.invalidateQueries({ queryKey: ['webhooks'] });
    },
  });
  if (study === undefined) {
    return (
      <Page title="Releases">
        <Empty title="Nothing to publish yet">
          Run a study first; its forecast can then be published here.
        </Empty>
      </Page>
    );
  }
  if (list.isError) return <Failed error={list.error} retry={() => void list.refetch()} />;
  if (going.isError) return <Failed error={going.error} retry={() => void going.refetch()} />;
  if (list.isPending || going.isPending) return <Loading what="what would go out" />;
  const next = (list.data[0]?.number ?? 0) + 1;
  const draft = going.data;
  const mine = draft.prepared !== null && draft.prepared.made_by === me;
  const asksFirst = draft.two_signatures && draft.prepared === null;
  const page = PAGES.find((one) => one.value === search.get('page'))?.value ?? 'out';
  const pages = (
    <Choice
      label=""
      options={PAGES}
      value={page}
      onChange={(to) => setSearch(to === 'out' ? {} : { page: to })}
    />
  );
  if (page === 'track')
    return (
      <Page title="Releases" actions={pages}>
        <TrackPage portfolio={portfolio} study={study} list={list.data} draft={draft} />
      </Page>
    );
  return (
    <Page
      title="Releases"
      actions={
        <>
          {pages}
          {draft.published_as === null && !may(asksFirst ? 'planner' : 'signer') ? (
            <span className="text-[13px] text-second">
              You are a {role}; {asksFirst ? 'a planner prepares' : 'a signer publishes'} this
            </span>
          ) : draft.published_as === null ? (
            <form
              className="flex items-center gap-3"
              onSubmit={(event) => {
                event.preventDefault();
                if (asksFirst) prepare.mutate();
                else publish.mutate();
              }}
            >
              {draft.prepared && (
                <span className="text-[13px] text-second">
                  prepared by {mine ? 'you; another person signs it' : draft.prepared.made_by}
                </span>
              )}
              <label className="flex items-center gap-2 text-[13px] text-second">
                Note
                <input
                  className="input input-sm w-[200px] text-base-content"
                  maxLength={400}
                  value={note}
                  onChange={(event) => setNote(event.target.value)}
                />
              </label>
              <button
                type="submit"
                className="btn btn-sm btn-primary"
                disabled={
                  !draft.holds || publish.isPending || prepare.isPending || (draft.two_signatures && mine)
                }
              >
                {publish.isPending
                  ? 'Publishing …'
                  : asksFirst
                    ? `Prepare R${next}`
                    : draft.two_signatures
                      ? `Sign and publish R${next}`
                      : `Publish R${next}`}
              </button>
            </form>
          ) : (
            <span className="text-[13px] text-second">
              {draft.study_name} #{draft.study} is published as R{draft.published_as}
            </span>
          )}
        </>
      }
    >
      <div className="space-y-7 p-[18px]">
        <Refused of={[publish, prepare]} />
        <GoingOut draft={draft} />
        {draft.last_release && <Moved portfolio={portfolio} study={study} release={draft.last_release} />}
        <Adjustments portfolio={portfolio} study={study} />
        <div className="max-w-[760px]">
          <Comments portfolio={portfolio} study={study} />
        </div>
        <Published list={list.data} withdraws={may('signer')} />
        {may('keeper') && <TwoSignatures portfolio={portfolio} on={draft.two_signatures} study={study} />}
        <Tokens example={list.data[0]?.id} />
        {may('keeper') && <Webhooks portfolio={portfolio} />}
      </div>
    </Page>
  );
}

function GoingOut({ draft }: { draft: Schema['Draft'] }) {
  const colours = useColours();
  const options = useMemo(() => totalOptions(draft, colours), [draft, colours]);
  return (
    <section aria-labelledby="going-out">
      <h2 id="going-out" className="text-base font-semibold">
        {draft.published_as === null ? 'What would go out' : `What went out as R${draft.published_as}`}
      </h2>
      <p className="text-second">
        {draft.study_name} #{draft.study}: {count(draft.n_series)} series and the{' '}
        {count(draft.n_nodes - draft.n_series)} nodes above them, {draft.periods[0]} to {draft.periods.at(-1)}
        , with bands.
      </p>
      <div className="mt-3 flex flex-wrap gap-8">
        <div className="min-w-[480px] flex-1">
          <p className="flex gap-4">
            <b>All series, units a period</b>
            <Key colour="var(--color-base-content)" label="sold" />
            <Key colour="var(--forecast)" label="forecast" />
            {draft.last_release && (
              <Key colour="var(--second)" label={`R${draft.last_release.number}`} style="dashed" />
            )}
          </p>
          <Chart
            options={options}
            label="Total of all series: history, forecast and bands"
            className="h-[230px] w-full"
          />
        </div>
        <table className="sheet w-auto! self-start">
          <caption className="pb-1 text-left text-second">Checks that must hold</caption>
          <tbody>
            {draft.checks.map((check) => (
              <tr key={check.name}>
                <td className={check.holds ? 'text-success' : 'font-semibold text-error'}>
                  {check.holds ? '✓ holds' : '✗ broken'}
                </td>
                <td>{check.name}</td>
                <td className="text-second">{check.found}</td>
              </tr>
            ))}
          </tbody>
        </table>
      </div>
    </section>
  );
}

function Published({ list, withdraws }: { list: Schema['Release'][]; withdraws: boolean }) {
  return (
    <section aria-labelledby="published">
      <h2 id="published" className="mb-1 text-base font-semibold">
        Published
      </h2>
      {list.length === 0 ? (
        <p className="text-second">Nothing has been published from this portfolio yet.</p>
      ) : (
        <table className="sheet">
          <thead>
            <tr>
              <th>Release</th>
              <th>Published</th>
              <th>Study</th>
              <th>From</th>
              <th>Forecast</th>
              <th className="num">Nodes</th>
              <th>Note</th>
              <th>Download</th>
            </tr>
          </thead>
          <tbody>
            {list.map((release) => (
              <tr key={release.id}>
                <td className="font-semibold">
                  R{release.number}
                  {release.withdrawal && <span className="ml-1 font-normal text-error">withdrawn</span>}
                </td>
                <td>
                  {when(release.published_at)} by {release.published_by}
                  {release.prepared_by && release.prepared_by !== release.published_by && (
                    <span className="block text-second">prepared by {release.prepared_by}</span>
                  )}
                </td>
                <td>
                  {release.study_name} #{release.study}
                </td>
                <td>{release.origin}</td>
                <td>
                  {release.first} to {release.last}
                </td>
                <td className="num">{count(release.n_nodes)}</td>
                <td>
                  {release.note}
                  {release.n_adjustments > 0 && (
                    <span className="block text-second">
                      {count(release.n_adjustments)} adjustment
                      {release.n_adjustments === 1 ? '' : 's'}
                    </span>
                  )}
                  {release.withdrawal && (
                    <span className="block text-error">
                      {release.withdrawal.reason} ({release.withdrawal.made_by})
                    </span>
                  )}
                </td>
                <td className="space-x-3 whitespace-nowrap">
                  <a className="link" href={`/api/releases/${release.id}/csv/`} download>
                    CSV
                  </a>
                  <a className="link" href={`/api/releases/${release.id}/parquet/`} download>
                    Parquet
                  </a>
                  <a className="link" href={`/api/releases/${release.id}/xlsx/`} download>
                    XLSX
                  </a>
                  <a
                    className="link"
                    href={`/api/releases/${release.id}/paths/`}
                    title="200 futures that may come, for simulations of stock; every one adds up"
                    download
                  >
                    Paths
                  </a>
                  {withdraws && !release.withdrawal && <WithdrawRelease release={release} />}
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
    </section>
  );
}

/** Whether one person prepares a release and another one signs it. */
function TwoSignatures({ portfolio, study, on }: { portfolio: number; study: number; on: boolean }) {
  const client = useQueryClient();
  const send = useMutation({
    mutationFn: (two_signatures: boolean) =>
      body(
        api.PATCH('/api/portfolios/{id}/', { params: { path: { id: portfolio } }, body: { two_signatures } }),
      ),
    onSettled: () => client.invalidateQueries({ queryKey: draftQuery(study).queryKey }),
  });
  return (
    <label className="flex items-center gap-2 text-[13px]">
      <input
        type="checkbox"
        className="checkbox checkbox-sm"
        checked={on}
        onChange={(event) => send.mutate(event.target.checked)}
      />
      Two pairs of eyes: one person prepares a release, another one signs it
    </label>
  );
}

/** Say that a release is not to be used; it stays as it is. */
function WithdrawRelease({ release }: { release: Schema['Release'] }) {
  const [asking, setAsking] = useState(false);
  const [reason, setReason] = useState('');
  const client = useQueryClient();
  const send = useMutation({
    mutationFn: () =>
      body(
        api.POST('/api/releases/{id}/withdraw/', { params: { path: { id: release.id } }, body: { reason } }),
      ),
    onSuccess: () => {
      setAsking(false);
      client.invalidateQueries({ queryKey: releasesQuery(release.portfolio).queryKey });
      client.invalidateQueries({ queryKey: ['draft'] });
      client.invalidateQueries({ queryKey: ['released'] });
      client.invalidateQueries({ queryKey: ['webhooks'] });
    },
  });
  return (
    <>
      <button type="button" className="link" onClick={() => setAsking(true)}>
        Withdraw
      </button>
      {asking && (
        <Dialog title={`Withdraw R${release.number}`} close={() => setAsking(false)}>
          <Ask
            act={() => send.mutate()}
            say={`Withdraw R${release.number}`}
            ready={reason.trim() !== '' && !send.isPending}
            error={send.error}
            close={() => setAsking(false)}
          >
            <p>It stays as it is and can still be read, marked as withdrawn; that cannot be taken back.</p>
            <Line label="Reason" most={400} value={reason} onChange={setReason} />
          </Ask>
        </Dialog>
      )}
    </>
  );
}
