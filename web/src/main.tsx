import { QueryClient, QueryClientProvider } from '@tanstack/react-query';
import { StrictMode, Suspense, lazy, useState } from 'react';
import { createRoot } from 'react-dom/client';
import { Tooltip } from 'radix-ui';
import { Route, RouterProvider, Routes, createBrowserRouter } from 'react-router';

import { Problem, accountHere, basenameOf } from './api/client';
import { SessionGate } from './data/session';
import { UploadProvider } from './data/uploads';
import { Administered } from './parts/Allowed';
import { Shell } from './parts/Shell';
import { ToastProvider } from './parts/Toasts';
import { UnsavedGuard } from './parts/Unsaved';
import './parts/nonce';
import { applyTheme, storedTheme } from './parts/theme';
import './styles/index.css';

const Overview = lazy(() => import('./pages/overview/Overview'));
const Buckets = lazy(() => import('./pages/buckets/Buckets'));
const Bucket = lazy(() => import('./pages/bucket/Bucket'));
const ObjectPage = lazy(() => import('./pages/object/ObjectPage'));
const Journal = lazy(() => import('./pages/journal/Journal'));
const CharterPage = lazy(() => import('./pages/charters/CharterPage'));
const Charters = lazy(() => import('./pages/charters/Charters'));
const Posts = lazy(() => import('./pages/journal/Posts'));
const UploadsPage = lazy(() => import('./pages/uploads/Uploads'));
const Access = lazy(() => import('./pages/access/Access'));
const Tiers = lazy(() => import('./pages/tiers/Tiers'));
const ClockPage = lazy(() => import('./pages/clock/ClockPage'));
const Regions = lazy(() => import('./pages/regions/Regions'));
const Placements = lazy(() => import('./pages/placements/Placements'));
const RulePage = lazy(() => import('./pages/lifecycle/RulePage'));
const Endpoints = lazy(() => import('./pages/endpoints/Endpoints'));
const CensusPage = lazy(() => import('./pages/census/CensusPage'));
const CensusReading = lazy(() => import('./pages/census/CensusReading'));
const Censuses = lazy(() => import('./pages/census/Censuses'));
const Usage = lazy(() => import('./pages/usage/Usage'));
const Audit = lazy(() => import('./pages/audit/Audit'));
const Find = lazy(() => import('./pages/find/Find'));
const Threads = lazy(() => import('./pages/replication/Threads'));
const ReplicationPage = lazy(() => import('./pages/replication/RulePage'));
const Syncs = lazy(() => import('./pages/sync/Syncs'));
const SyncPage = lazy(() => import('./pages/sync/SyncPage'));
const Connect = lazy(() => import('./pages/connect/Connect'));
const Nowhere = lazy(() => import('./pages/Nowhere'));

applyTheme(storedTheme());

const queries = new QueryClient({
  defaultOptions: {
    queries: { retry: (n, e) => n < 2 && !(e instanceof Problem && e.status < 500), staleTime: 2_000 },
  },
});

const Page = () => (
  <UnsavedGuard>
    <UploadProvider>
      <Shell>
        <Suspense fallback={<p className="faint">Reading</p>}>
          <Routes>
            <Route path="/" element={<Overview />} />
            <Route path="/buckets" element={<Buckets />} />
            <Route path="/buckets/:bucket/object" element={<ObjectPage />} />
            <Route path="/buckets/:bucket/lifecycle/:rule" element={<RulePage />} />
            <Route path="/buckets/:bucket/:section?" element={<Bucket />} />
            <Route path="/find" element={<Find />} />
            <Route path="/uploads" element={<UploadsPage />} />
            <Route path="/journal" element={<Journal />} />
            <Route path="/access/:section?" element={<Access />} />
            <Route element={<Administered />}>
              <Route path="/census" element={<Censuses />} />
              <Route path="/census/:census" element={<CensusPage />} />
              <Route path="/census/:census/runs/:run" element={<CensusReading />} />
              <Route path="/usage" element={<Usage />} />
              <Route path="/audit" element={<Audit />} />
              <Route path="/charters" element={<Charters />} />
              <Route path="/charters/:charter" element={<CharterPage />} />
              <Route path="/journal/posts" element={<Posts />} />
              <Route path="/replication" element={<Threads />} />
              <Route path="/replication/:rule" element={<ReplicationPage />} />
              <Route path="/endpoints" element={<Endpoints />} />
              <Route path="/sync" element={<Syncs />} />
              <Route path="/sync/:sync" element={<SyncPage />} />
            </Route>
            <Route path="/tiers" element={<Tiers />} />
            <Route path="/placements" element={<Placements />} />
            <Route path="/regions" element={<Regions />} />
            <Route path="/clock" element={<ClockPage />} />
            <Route path="/connect" element={<Connect />} />
            <Route path="*" element={<Nowhere />} />
          </Routes>
        </Suspense>
      </Shell>
    </UploadProvider>
  </UnsavedGuard>
);

/** The pages of the account that the address names; a session is there, and has settled it. */
function Pages() {
  const [router] = useState(() =>
    createBrowserRouter([{ path: '*', element: <Page /> }], { basename: basenameOf(accountHere()) }),
  );
  return <RouterProvider router={router} />;
}

createRoot(document.getElementById('root')!).render(
  <StrictMode>
    <QueryClientProvider client={queries}>
      <Tooltip.Provider delayDuration={400}>
        <ToastProvider>
          <SessionGate>
            <Pages />
          </SessionGate>
        </ToastProvider>
      </Tooltip.Provider>
    </QueryClientProvider>
  </StrictMode>,
);
