import { createRouter } from 'sv-router';

import Connections from './pages/Connections.svelte';
import Layouts from './pages/Layouts.svelte';
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
  '/layouts': Layouts,
  '/layouts/:id': Layouts,
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
  const to = new URL(address, location.origin);
  const search = Object.fromEntries(to.searchParams);
  const open = navigate as (path: string, options: object) => Promise<unknown>;
  void open(to.pathname, { replace, search });
}

/** openRow opens what a row of a list stands for, unless a link or button in the
 * row was meant. */
export function openRow(e: MouseEvent, address: string): void {
  if (!(e.target as HTMLElement).closest('a,button')) go(address);
}
