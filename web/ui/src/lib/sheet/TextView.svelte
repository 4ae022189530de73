<script lang="ts">
  import { acceptCompletion, autocompletion } from '@codemirror/autocomplete';
  import { defaultKeymap, history, historyKeymap, indentWithTab } from '@codemirror/commands';
  import { yaml } from '@codemirror/lang-yaml';
  import { bracketMatching, indentOnInput, syntaxHighlighting } from '@codemirror/language';
  import { lintGutter, setDiagnostics, type Diagnostic } from '@codemirror/lint';
  import { EditorState } from '@codemirror/state';
  import { EditorView, highlightActiveLine, keymap, lineNumbers } from '@codemirror/view';
  import { untrack } from 'svelte';

  import type { Problem, StepKind } from '../api/client';
  import { inks } from '../code/inks';
  import { columnsAt, type Editor } from './editor.svelte';
  import { completeYaml } from './yamlwords';

  /** The sheet as text: the same document, checked as it is typed. */
  let { editor, readonly, kinds, types }: { editor: Editor; readonly: boolean; kinds: StepKind[]; types: string[] } =
    $props();

  const words = () => ({
    kinds,
    steps: (editor.checked?.steps ?? []).flatMap((s) => [s.id, ...(s.branches ?? []).map((b) => `${s.id}.${b.name}`)]),
    columns: (step: string) =>
      (editor.checked?.steps?.find((s) => s.id === step)?.inputs ?? []).flatMap((place) =>
        columnsAt(editor.checked, place).map((c) => c.name),
      ),
    types,
  });

  let own = ''; // the text that came from here, which must not come back
  let view: EditorView;
  let wait: ReturnType<typeof setTimeout> | undefined;

  function mark(problems: Problem[]) {
    const doc = view.state.doc;
    const marks: Diagnostic[] = problems
      .filter((p) => p.line && p.line <= doc.lines)
      .map((p) => {
        const line = doc.line(p.line!);
        return {
          from: Math.min(line.to, line.from + Math.max(0, (p.column ?? 1) - 1)),
          to: line.to,
          severity: p.warning ? 'info' : 'error',
          message: p.sentence,
        };
      });
    view.dispatch(setDiagnostics(view.state, marks));
  }

  const mount = (el: HTMLElement) => {
    untrack(() => {
      own = editor.yaml;
      view = new EditorView({
        parent: el,
        state: EditorState.create({
          doc: editor.yaml,
          extensions: [
            lineNumbers(),
            history(),
            highlightActiveLine(),
            bracketMatching(),
            indentOnInput(),
            yaml(),
            autocompletion({ icons: false, override: [completeYaml(words)] }),
            lintGutter(),
            syntaxHighlighting(inks),
            EditorState.readOnly.of(readonly),
            EditorView.contentAttributes.of({ 'aria-label': 'The sheet as text', tabindex: '0' }),
            keymap.of([{ key: 'Tab', run: acceptCompletion }, ...defaultKeymap, ...historyKeymap, indentWithTab]),
            EditorView.updateListener.of((u) => {
              if (!u.docChanged) return;
              own = u.state.doc.toString();
              clearTimeout(wait);
              wait = setTimeout(async () => mark(await editor.setText(own)), 250);
            }),
          ],
        }),
      });
      mark(editor.checked?.problems ?? []);
    });
    return () => view.destroy();
  };
  // An undo, or an edit on the left, comes in from outside.
  $effect(() => {
    const text = editor.yaml;
    if (text === own || !view) return;
    own = text;
    view.dispatch({ changes: { from: 0, to: view.state.doc.length, insert: text } });
    clearTimeout(wait);
  });
</script>

<div class="text" {@attach mount}></div>

<style>
  .text {
    flex: 1;
    min-height: 0;
    overflow: hidden;
  }
  .text :global(.cm-editor) {
    height: 100%;
    font-size: 12.5px;
    background: var(--raised);
    color: var(--ink);
  }
  .text :global(.cm-scroller) {
    font-family: var(--data);
    line-height: 1.55;
  }
  .text :global(.cm-gutters) {
    background: var(--raised);
    color: var(--faint);
    border: 0;
  }
  .text :global(.cm-activeLine),
  .text :global(.cm-activeLineGutter) {
    background: var(--sunk);
  }
  .text :global(.cm-cursor) {
    border-left-color: var(--ink);
  }
  .text :global(.cm-tooltip) {
    background: var(--raised);
    border: 1px solid var(--rule2);
    color: var(--ink);
    font-family: var(--text);
  }
</style>
