import { useQueryClient } from '@tanstack/react-query';
import { useEffect, useState } from 'react';
import { type DefaultValues, type FieldValues, get, type Path, useForm } from 'react-hook-form';
import { Refusal } from '../api/client';
import { type Subject, touch, useChange } from './use-change';

/** anyOf tells whether some of the fields, and those within, are marked. */
const anyOf = (fields: unknown): boolean =>
  fields === true || (typeof fields === 'object' && fields !== null && Object.values(fields).some(anyOf));

/** What a form is reset to, it has wholly. */
const whole = { keepDirtyValues: false };

/**
 * useDraft is a form over something that is saved. What was typed outlives whatever is read meanwhile: fields that were
 * not touched follow what is saved, those that were stay, and moved says that what the draft began from has changed.
 * A problem that the service has with a field stands at that field.
 */
export function useDraft<T extends FieldValues, R>(draft: {
  saved: T;
  version?: number;
  save: (values: T, tag: string) => Promise<R>;
  touches: Subject[];
  fields?: Record<string, string>; // names that the service has for fields, where they are others
  keep?: string; // the draft survives a closed tab, under this name
  onSaved?: (answer: R) => void;
}) {
  const { saved, version = 0, keep } = draft;
  const queries = useQueryClient();
  const form = useForm<T>({
    defaultValues: saved as DefaultValues<T>,
    ...(keep ? {} : { values: saved, resetOptions: { keepDirtyValues: true } }),
  });
  // Whether the form as a whole is dirty, it forgets for a moment when what is saved changes; single fields it does not.
  const dirty = anyOf(form.formState.dirtyFields);
  const [began, setBegan] = useState(version);
  if (!dirty && began !== version) setBegan(version);

  useEffect(() => {
    if (!keep) return;
    try {
      const kept = JSON.parse(localStorage.getItem(keep) ?? 'null') as T | null;
      if (kept) form.reset({ ...saved, ...kept }, { keepDefaultValues: true });
    } catch {
      localStorage.removeItem(keep); // it was written by an older console
    }
    const watching = form.watch((values) => localStorage.setItem(keep, JSON.stringify(values)));
    return () => watching.unsubscribe();
    // what was kept is read once
    // eslint-disable-next-line react-hooks/exhaustive-deps
  }, [keep, form]);

  // The field of the form that a field of the service is; an item of a list is told at its list.
  const place = (of: string) => {
    const field = draft.fields?.[of] ?? of.replace(/\[.*/, '');
    return get(saved, field) === undefined ? undefined : (field as Path<T>);
  };

  const save = useChange<T, R>(draft.touches, (values) => draft.save(values, `"${began}"`), {
    onSuccess: (answer) => {
      if (keep) localStorage.removeItem(keep);
      else form.reset(form.getValues(), whole);
      draft.onSaved?.(answer);
    },
    onError: (error) => {
      if (!(error instanceof Refusal)) return;
      if (error.status === 412) touch(queries, draft.touches); // to be seen, and then decided about
      for (const p of error.problems) {
        const field = place(p.field);
        if (field) form.setError(field, { message: p.says });
      }
    },
  });
  const problem = (field: Path<T>) => form.getFieldState(field, form.formState).error?.message;
  return {
    form,
    register: form.register,
    dirty,
    moved: dirty && began !== version,
    keepMine: () => setBegan(version),
    drop: () => {
      form.reset(saved, whole);
      save.reset();
    },
    save: form.handleSubmit((values) => save.mutate(values)),
    saving: save.isPending,
    error: save.error,
    problem,
  };
}
