import { createRouter } from 'sv-router';

import Connections from './pages/Connections.svelte';
import NotThere from './pages/NotThere.svelte';
import People from './pages/People.svelte';
import Pipelines from './pages/Pipelines.svelte';
import Run from './pages/Run.svelte';
import Runs from './pages/Runs.svelte';
import Sheet from './pages/Sheet.svelte';
import Timetable from './pages/Timetable.svelte';
import Today from './pages/Today.svelte';

export const { navigate, route } = createRouter({
  '/': Today,
  '/connections': Connections,
  '/connections/:id': Connections,
  '/pipelines': Pipelines,
  '/pipelines/:id': Sheet,
  '/timetable': Timetable,
  '/timetable/:id': Timetable,
  '/runs': Runs,
  '/runs/:id': Run,
  '/people': People,
  '*all': NotThere,
});

/** go opens an address of the app that was put together from data. */
export function go(address: string, replace = false): void {
  void (navigate as (to: string, options?: { replace?: boolean }) => Promise<unknown>)(address, { replace });
}
