/** What the page that is open offers to be found, before everything else. */
export interface Hit {
  name: string;
  what: string;
  to?: string; // an address
  act?: () => void; // or what opening it does
}

/** here is asked when something is being looked for, not before: it may be long. */
export const finding = $state<{ here: () => Hit[] }>({ here: () => [] });
