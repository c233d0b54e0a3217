type Deep<T> = T extends (...a: never[]) => unknown
  ? T
  : T extends readonly (infer E)[]
    ? Deep<E>[]
    : T extends object
      ? { [K in keyof T]?: Deep<T[K]> }
      : T;

/** A value of which a test needs only some fields; those it names are checked against the type. */
export const part = <T>(fields: Deep<T>): T => fields as T;
