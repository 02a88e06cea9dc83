/** Addresses name what is shown, so a link opens the same view for a colleague. */
import { lazy, Suspense } from 'react';
import { createBrowserRouter } from 'react-router';
import { Field } from './screens/field/field';
import { Intake } from './screens/intake/intake';
import { Review } from './screens/intake/review';
import { Join } from './screens/sign-in/join';
import { SignIn } from './screens/sign-in/sign-in';
import { Start } from './screens/start';
import { StudyScreen } from './screens/study/study';
import { Shell } from './ui/shell';
import { Loading, NotFound, RouteFailed } from './ui/states';

const Series = lazy(() => import('./screens/series/series').then((m) => ({ default: m.Series })));
const Structure = lazy(() =>
  import('./screens/structure/structure').then((m) => ({ default: m.StructureScreen })),
);
const Backtest = lazy(() => import('./screens/backtest/backtest').then((m) => ({ default: m.Backtest })));
const Releases = lazy(() => import('./screens/releases/releases').then((m) => ({ default: m.Releases })));

const Compare = lazy(() => import('./screens/study/compare').then((m) => ({ default: m.Compare })));

const Coverage = lazy(() =>
  import('./screens/history/coverage').then((m) => ({ default: m.CoverageScreen })),
);
const AllSeries = lazy(() => import('./screens/history/all-series').then((m) => ({ default: m.AllSeries })));
const OneSeries = lazy(() => import('./screens/history/one-series').then((m) => ({ default: m.OneSeries })));
const Corrections = lazy(() =>
  import('./screens/corrections/corrections').then((m) => ({ default: m.Corrections })),
);
const Ledger = lazy(() => import('./screens/corrections/ledger').then((m) => ({ default: m.Ledger })));
const Kinds = lazy(() => import('./screens/kinds/kinds').then((m) => ({ default: m.KindsScreen })));
const Plans = lazy(() => import('./screens/plans/plans').then((m) => ({ default: m.PlansScreen })));
const People = lazy(() => import('./screens/people/people').then((m) => ({ default: m.People })));
const Append = lazy(() => import('./screens/intake/append').then((m) => ({ default: m.Append })));

const later = (screen: React.ReactNode) => (
  <Suspense fallback={<Loading what="the screen" />}>{screen}</Suspense>
);

export const router = createBrowserRouter([
  { path: '/sign-in', element: <SignIn /> },
  { path: '/join', element: <Join /> },
  {
    path: '/',
    element: <Shell />,
    errorElement: <RouteFailed />,
    children: [
      { index: true, element: <Start /> },
      { path: 'intake', element: <Intake /> },
      { path: 'intake/:upload', element: <Review /> },
      { path: 'p/:portfolio/intake', element: <Intake /> },
      { path: 'p/:portfolio/intake/coverage', element: later(<Coverage />) },
      { path: 'p/:portfolio/intake/all', element: later(<AllSeries />) },
      { path: 'p/:portfolio/intake/series/:series', element: later(<OneSeries />) },
      { path: 'p/:portfolio/intake/corrections', element: later(<Corrections />) },
      { path: 'p/:portfolio/intake/ledger', element: later(<Ledger />) },
      { path: 'p/:portfolio/intake/kinds', element: later(<Kinds />) },
      { path: 'p/:portfolio/intake/plans', element: later(<Plans />) },
      { path: 'p/:portfolio/append/:upload', element: later(<Append />) },
      { path: 'p/:portfolio/study', element: <StudyScreen /> },
      { path: 'p/:portfolio/compare/:one/:other', element: later(<Compare />) },
      { path: 'p/:portfolio/s/:study/field', element: <Field /> },
      { path: 'p/:portfolio/s/:study/series/:node', element: later(<Series />) },
      { path: 'p/:portfolio/s/:study/structure', element: later(<Structure />) },
      { path: 'p/:portfolio/s/:study/backtest', element: later(<Backtest />) },
      { path: 'p/:portfolio/releases', element: later(<Releases />) },
      { path: 'p/:portfolio/people', element: later(<People />) },
      { path: '*', element: <NotFound /> },
    ],
  },
]);
