import { Trouble } from './api';

// Short notes at the foot of the page: what was done, with a way to undo it, or
// what went wrong, with what to do.

export interface Note {
  id: number;
  text: string;
  hint: string;
  bad: boolean;
  undo?: () => void;
}

export const notes: Note[] = $state([]);

let count = 0;

export function say(text: string, undo?: () => void): void {
  show({ id: ++count, text, hint: '', bad: false, undo }, 8000);
}

export function complain(error: unknown): void {
  const trouble = error instanceof Trouble ? error : new Trouble(String(error));
  show({ id: ++count, text: trouble.message, hint: trouble.hint, bad: true }, 12000);
}

function show(note: Note, milliseconds: number): void {
  notes.push(note);
  setTimeout(() => dismiss(note.id), milliseconds);
}

export function dismiss(id: number): void {
  const at = notes.findIndex((n) => n.id === id);
  if (at >= 0) notes.splice(at, 1);
}
