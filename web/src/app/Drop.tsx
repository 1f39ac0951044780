import { cloneElement, lazy, Suspense, useState, type ReactElement, type ReactNode } from "react";

export interface Entry {
  title: ReactNode;
  key?: string | number;
  to?: string;
  onChoose?: () => void;
  disabled?: boolean;
  now?: boolean; // what is chosen already
  left?: ReactNode;
  right?: ReactNode;
}

export interface DropProps {
  target: ReactElement<{ id?: string }>;
  entries: Entry[];
  width: number;
  atEnd?: boolean; // below the right end of the target
  head?: ReactNode;
  filter?: { label: string; placeholder: string; text: string; onText: (text: string) => void };
  nothing?: string; // where no entry is left
}

const loaded = () => import("./DropMenu");
const DropMenu = lazy(() => loaded().then((m) => ({ default: m.DropMenu })));

/** A button that drops a menu. What menus are made of is loaded when the first of them is approached. */
export function Drop(props: DropProps) {
  const [wanted, setWanted] = useState(false);
  const closed = cloneElement(props.target as ReactElement<Record<string, unknown>>, {
    "aria-haspopup": "menu",
    "aria-expanded": false,
    onPointerEnter: () => void loaded(),
    onFocus: () => void loaded(),
    onClick: () => setWanted(true),
  });
  return wanted ? (
    <Suspense fallback={closed}>
      <DropMenu {...props} />
    </Suspense>
  ) : (
    closed
  );
}
