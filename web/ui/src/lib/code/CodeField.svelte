<script lang="ts">
  import { acceptCompletion, autocompletion, completionStatus } from '@codemirror/autocomplete';
  import { defaultKeymap, history, historyKeymap, indentWithTab } from '@codemirror/commands';
  import { pythonLanguage } from '@codemirror/lang-python';
  import { PostgreSQL } from '@codemirror/lang-sql';
  import { bracketMatching, indentUnit, syntaxHighlighting } from '@codemirror/language';
  import { Compartment, EditorState } from '@codemirror/state';
  import { EditorView, keymap, placeholder } from '@codemirror/view';
  import { untrack } from 'svelte';

  import { inks } from './inks';
  import { completionsFor, functionAt, helpFor, wordsHere, type Help } from './words';

  /** A field for an expression, a statement or a script: it grows with its text,
   * completes names, and says what the function under the cursor does. */
  let {
    value,
    change,
    label,
    language = 'sql',
    hint = '',
    readonly = false,
  }: {
    value: string;
    change: (text: string) => void;
    label: string;
    language?: 'sql' | 'query' | 'script';
    hint?: string;
    readonly?: boolean;
  } = $props();

  const words = wordsHere()!;
  const locked = new Compartment();
  let view: EditorView;
  let help = $state<Help[]>([]);
  let focused = $state(false);

  const lock = (on: boolean) => [EditorState.readOnly.of(on), EditorView.editable.of(!on)];
  const mount = (el: HTMLElement) => {
    untrack(() => {
      view = new EditorView({
        parent: el,
        state: EditorState.create({
          doc: value,
          extensions: [
            history(),
            bracketMatching(),
            language === 'script' ? [pythonLanguage.extension, indentUnit.of('    ')] : PostgreSQL.extension,
            syntaxHighlighting(inks),
            EditorView.lineWrapping,
            placeholder(hint),
            autocompletion({ icons: false, override: [completionsFor(language, words)] }),
            locked.of(lock(readonly)),
            EditorView.contentAttributes.of({ 'aria-label': label, spellcheck: 'false', tabindex: '0' }),
            // Tab goes on to the next field, as in any form; it takes a completion that is open.
            keymap.of([
              { key: 'Tab', run: acceptCompletion },
              { key: 'Escape', run: (v) => completionStatus(v.state) === null && (v.contentDOM.blur(), true) },
              ...(language === 'script' ? [indentWithTab] : []),
              ...defaultKeymap.filter((k) => k.key !== 'Escape'),
              ...historyKeymap,
            ]),
            EditorView.updateListener.of((u) => {
              if (u.docChanged && u.state.doc.toString() !== value) change(u.state.doc.toString());
              if (u.focusChanged) focused = u.view.hasFocus;
              if (u.docChanged || u.selectionSet || u.focusChanged)
                help = helpFor(functionAt(u.state.doc.toString(), u.state.selection.main.head), words());
            }),
          ],
        }),
      });
    });
    return () => view.destroy();
  };
  // An undo, or an edit elsewhere, comes in from outside.
  $effect(() => {
    const text = value;
    if (view && text !== view.state.doc.toString())
      view.dispatch({ changes: { from: 0, to: view.state.doc.length, insert: text } });
  });
  $effect(() => {
    const on = readonly;
    view?.dispatch({ effects: locked.reconfigure(lock(on)) });
  });
</script>

<div class="code field" class:script={language !== 'sql'} {@attach mount}></div>
{#if focused && help.length && language !== 'script'}
  <div class="help" role="note">
    {#each help.slice(0, 4) as f (f.signature ?? f.name)}
      <p><code>{f.signature ?? f.name}</code> {f.help} <code class="eg">{f.example}</code></p>
    {/each}
    {#if help.length > 4}<p>and {help.length - 4} more of this name</p>{/if}
  </div>
{/if}

<style>
  .code {
    padding: 0;
  }
  .code.script {
    border: 1px solid var(--rule2);
    background: var(--raised);
    max-height: 300px;
    overflow: auto;
  }
  .code :global(.cm-editor) {
    background: transparent;
    color: var(--ink);
    font-size: 12.5px;
    outline: none;
  }
  .code :global(.cm-scroller) {
    font-family: var(--data);
    line-height: 1.5;
  }
  .code :global(.cm-content) {
    padding: 2px 0 3px;
    caret-color: var(--ink);
  }
  .code :global(.cm-line) {
    padding: 0 2px;
  }
  .code.script :global(.cm-content) {
    min-height: 76px;
    padding: 5px 4px;
  }
  .code :global(.cm-placeholder) {
    color: var(--faint);
  }
  .code:focus-within {
    border-bottom-color: var(--act);
    box-shadow: 0 1px 0 var(--act);
  }
  .help {
    background: var(--sunk);
    padding: 3px 8px;
    font-size: 12px;
    color: var(--soft);
  }
  .help p {
    margin: 1px 0;
  }
  .help code {
    font-size: 12px;
  }
  .help .eg {
    color: var(--soft);
    margin-left: 6px;
  }
</style>
