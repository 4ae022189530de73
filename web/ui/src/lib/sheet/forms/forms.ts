import type { Component } from 'svelte';

import Aggregates from './Aggregates.svelte';
import CalendarParts from './CalendarParts.svelte';
import CheckRules from './CheckRules.svelte';
import ChooseColumns from './ChooseColumns.svelte';
import Combine from './Combine.svelte';
import FindPersonal from './FindPersonal.svelte';
import MatchNames from './MatchNames.svelte';
import Route from './Route.svelte';
import type { FormProps } from './settings';

/** Kinds of step that have a form of their own; the others' is drawn from the schema of their settings. */
export const forms: Record<string, Component<FormProps>> = {
  'calendar parts': CalendarParts,
  'check rules': CheckRules,
  'choose columns': ChooseColumns,
  compare: Combine,
  'derive columns': Aggregates,
  'find personal data': FindPersonal,
  'find valid': Combine,
  group: Aggregates,
  join: Combine,
  'look up': Combine,
  'match names': MatchNames,
  pivot: Aggregates,
  route: Route,
  window: Aggregates,
};
