/** Later actuals, looked at before they are put to a portfolio. */
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useNavigate, useParams } from 'react-router';
import { api, body } from '../../api/client';
import { portfolios } from '../../api/queries';
import { useReader } from '../../api/roles';
import { count } from '../../ui/format';
import { Page } from '../../ui/page';
import { Failed, Loading, Refused } from '../../ui/states';
import { Brought } from './brought';
import { Findings } from './findings';

export function Append() {
  const params = useParams();
  const portfolio = Number(params.portfolio);
  const id = Number(params.upload);
  const navigate = useNavigate();
  const client = useQueryClient();
  const reader = useReader();
  const name = useQuery(portfolios).data?.find((one) => one.id === portfolio)?.name ?? 'the portfolio';
  const file = useQuery({
    queryKey: ['upload', id],
    queryFn: () => body(api.GET('/api/uploads/{id}/', { params: { path: { id } } })),
  });
  const ask = (onlyLook: boolean) =>
    body(
      api.POST('/api/uploads/{id}/append/', {
        params: { path: { id } },
        body: { portfolio, only_look: onlyLook },
      }),
    );
  const look = useQuery({
    queryKey: ['append', portfolio, id],
    queryFn: () => ask(true),
    staleTime: Number.POSITIVE_INFINITY,
    retry: false,
  });
  const load = useMutation({
    mutationFn: () => ask(false),
    onSuccess: () => {
      navigate(`/p/${portfolio}/intake`);
      // all but what was asked about the upload, which is no more
      client.invalidateQueries({
        predicate: ({ queryKey }) => queryKey[0] !== 'append' && queryKey[0] !== 'upload',
      });
    },
  });
  const discard = useMutation({
    mutationFn: () => api.DELETE('/api/uploads/{id}/', { params: { path: { id } } }),
    onSuccess: () => navigate(`/p/${portfolio}/intake`),
  });
  if (file.isError) return <Failed error={file.error} />;
  if (look.isPending || file.isPending) return <Loading what="the file" />;
  return (
    <Page
      title={`Intake › ${file.data.file_name} for ${name}`}
      actions={
        <div className="flex gap-3">
          <button type="button" className="btn btn-sm btn-ghost" onClick={() => discard.mutate()}>
            Discard the file
          </button>
          <button
            type="button"
            className="btn btn-sm btn-primary"
            disabled={!look.data || load.isPending}
            {...reader}
            onClick={() => load.mutate()}
          >
            {load.isPending ? 'Loading …' : 'Add it'}
          </button>
        </div>
      }
    >
      <div className="max-w-[980px] space-y-6 p-[18px]">
        <Refused
          of={look.isError ? [{ error: look.error, submittedAt: 0 }] : [load, discard]}
          className="max-w-prose border-l-[3px] border-error pl-3"
          also="Nothing was loaded."
        />
        {look.data && (
          <>
            <section aria-labelledby="brings">
              <h2 id="brings" className="text-base font-semibold">
                What it brings
              </h2>
              <Brought appended={look.data.appended} />
            </section>
            <section aria-labelledby="findings">
              <h2 id="findings" className="mb-1 font-semibold">
                Findings{' '}
                <span className="font-normal text-second">{count(look.data.n_refused)} rows left out</span>
              </h2>
              <Findings findings={look.data.findings} />
            </section>
          </>
        )}
      </div>
    </Page>
  );
}
