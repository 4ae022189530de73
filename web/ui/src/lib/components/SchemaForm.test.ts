import { cleanup, fireEvent, render, screen } from '@testing-library/svelte';
import { afterEach, describe, expect, it, vi } from 'vitest';

import SchemaForm, { type Schema } from './SchemaForm.svelte';

const schema: Schema = {
  type: 'object',
  required: ['where'],
  properties: {
    where: { type: 'string', title: 'where', format: 'sql' },
    mode: { type: 'string', title: 'how', enum: ['append', 'merge'] },
    keys: { type: 'array', title: 'keys', items: { type: 'string' } },
    columns: {
      type: 'array',
      title: 'columns',
      items: {
        type: 'object',
        required: ['name'],
        properties: { name: { type: 'string', title: 'name' }, note: { type: 'string', title: 'note' } },
      },
    },
    password: { type: 'string', title: 'password', format: 'password' },
  },
};

function form(value: Record<string, unknown>, more: Record<string, unknown> = {}) {
  const change = vi.fn<(v: Record<string, unknown>) => void>();
  render(SchemaForm, { props: { schema, value, change, ...more } });
  return change;
}

afterEach(cleanup);

describe('a form drawn from a schema', () => {
  it('changes one setting and leaves the others', async () => {
    const change = form({ where: 'a', mode: 'merge' });
    await fireEvent.input(screen.getByLabelText('where'), { target: { value: 'nights > 0' } });
    expect(change).toHaveBeenCalledWith({ where: 'nights > 0', mode: 'merge' });
  });

  it('leaves out an optional setting that is emptied, and keeps a required one', async () => {
    const change = form({ where: 'a', mode: 'merge' });
    await fireEvent.change(screen.getByLabelText('how'), { target: { value: '' } });
    expect(change).toHaveBeenLastCalledWith({ where: 'a' });
    await fireEvent.input(screen.getByLabelText('where'), { target: { value: '' } });
    expect(change).toHaveBeenLastCalledWith({ where: '', mode: 'merge' });
  });

  it('adds, moves and removes records of a list', async () => {
    const change = form({ where: '', columns: [{ name: 'a' }, { name: 'b', note: 'x' }] });
    await fireEvent.click(screen.getByLabelText('move columns 2 up'));
    expect(change).toHaveBeenLastCalledWith({ where: '', columns: [{ name: 'b', note: 'x' }, { name: 'a' }] });
    await fireEvent.click(screen.getByLabelText('remove columns 1'));
    expect(change).toHaveBeenLastCalledWith({ where: '', columns: [{ name: 'b', note: 'x' }] });
    await fireEvent.input(screen.getByLabelText('columns 2 note'), { target: { value: '' } });
    expect(change).toHaveBeenLastCalledWith({ where: '', columns: [{ name: 'a' }, { name: 'b' }] });
  });

  it('shows a problem at its place', () => {
    form(
      { where: 'nigths', columns: [{ name: 'a' }] },
      { problems: { where: 'there is no column', 'columns[0].name': 'twice' } },
    );
    expect(screen.getAllByRole('alert').map((e) => e.textContent)).toEqual(['there is no column', 'twice']);
  });

  it('never shows a kept secret, and says that it is kept', () => {
    form({ where: '' }, { kept: ['password'] });
    const field = screen.getByLabelText<HTMLInputElement>('password');
    expect(field.value).toBe('');
    expect(field.placeholder).toContain('kept');
  });

  it('offers nothing to change to somebody who may only read', () => {
    form({ where: 'a', keys: ['k'], columns: [{ name: 'a' }] }, { readonly: true });
    expect(screen.queryAllByRole('button')).toEqual([]);
  });
});
