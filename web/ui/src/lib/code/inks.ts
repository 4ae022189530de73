import { HighlightStyle } from '@codemirror/language';
import { tags } from '@lezer/highlight';

/** The inks of code: names to be acted on, texts in ink, figures and words of the language in quiet colours. */
export const inks = HighlightStyle.define([
  { tag: [tags.propertyName, tags.definition(tags.propertyName)], color: 'var(--act)' },
  { tag: [tags.keyword, tags.operatorKeyword, tags.controlKeyword, tags.definitionKeyword], color: 'var(--act)' },
  { tag: [tags.comment, tags.lineComment], color: 'var(--soft)', fontStyle: 'italic' },
  { tag: [tags.string], color: 'var(--l3)' },
  { tag: [tags.content], color: 'var(--ink)' },
  { tag: [tags.number, tags.bool, tags.null], color: 'var(--l2)' },
]);
