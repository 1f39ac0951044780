import "@mantine/core/styles/Switch.css";
import "@mantine/core/styles/Overlay.css";
import "@mantine/core/styles/ModalBase.css";
import "@mantine/core/styles/Modal.css";
import { Button, Modal, Switch } from "@mantine/core";
import { useState } from "react";
import { StatusMark, VerdictMark } from "../marks/StatusMark";
import { markNames, verdictNames, type Mark, type Verdict } from "../marks/shapes";
import { markSays, verdictSays } from "../marks/says";
import { actions, clash, keyName, places, useWish, wishKeys, type ActionId } from "./keys";
import classes from "./frame.module.css";

/** Every mark and every key, and the keys as the reader wants them. */
export function KeySheet({ opened, onClose }: { opened: boolean; onClose: () => void }) {
  return (
    <Modal opened={opened} onClose={onClose} title="Marks and keys" closeButtonProps={{ "aria-label": "Close" }} size={860} shadow="none">
      <div className={classes.sheet}>
        <section aria-label="Marks">
          <h3>Cells and tests</h3>
          <dl>
            {(Object.keys(markSays) as Mark[]).map((mark) => (
              <div key={mark}>
                <dt>
                  <StatusMark mark={mark} size={14} label="" done={0.6} />
                  {markNames[mark]}
                </dt>
                <dd>{markSays[mark]}</dd>
              </div>
            ))}
            <div>
              <dt>
                <StatusMark mark="new" size={14} advisory label="" />
                drawn small
              </dt>
              <dd>an advisory cell: it is told, and holds nothing</dd>
            </div>
          </dl>
          <h3>Runs, at the foot of the strip</h3>
          <dl>
            {(Object.keys(verdictSays) as Verdict[]).map((verdict) => (
              <div key={verdict}>
                <dt>
                  <VerdictMark verdict={verdict} size={14} />
                  {verdictNames[verdict]}
                </dt>
                <dd>{verdictSays[verdict]}</dd>
              </div>
            ))}
          </dl>
        </section>
        <Keys />
      </div>
    </Modal>
  );
}

function Keys() {
  const wish = useWish();
  const [asking, setAsking] = useState<ActionId>();
  const [said, setSaid] = useState("");
  const take = (id: ActionId, key: string) => {
    const other = clash(id, key, wish);
    setAsking(undefined);
    setSaid(other ? `${keyName(key)} is “${actions[other].does}” already.` : "");
    if (!other) wishKeys({ ...wish, own: { ...wish.own, [id]: key } });
  };
  return (
    <section aria-label="Keys">
      {Object.entries(places).map(([place, title]) => (
        <div key={place}>
          <h3>{title}</h3>
          <dl>
            {(Object.keys(actions) as ActionId[])
              .filter((id) => actions[id].where === place)
              .map((id) => (
                <div key={id}>
                  <dt>
                    <button
                      type="button"
                      className={classes.key}
                      disabled={wish.off && id !== "goto"}
                      title="Press to choose another key"
                      aria-label={`Key for ${actions[id].does}: ${keyName(wish.own[id] ?? actions[id].key)}`}
                      onClick={() => setAsking(id)}
                      onKeyDown={(e) => {
                        if (asking !== id || ["Shift", "Control", "Alt", "Meta", "Tab"].includes(e.key)) return;
                        e.preventDefault();
                        e.stopPropagation();
                        if (e.key === "Escape") setAsking(undefined);
                        else if (id === "goto") setSaid("Ctrl K stays.");
                        else take(id, e.key);
                      }}
                    >
                      {asking === id ? "press…" : keyName(wish.own[id] ?? actions[id].key)}
                    </button>
                  </dt>
                  <dd>{actions[id].does}</dd>
                </div>
              ))}
          </dl>
        </div>
      ))}
      {said && <p role="alert">{said}</p>}
      <Switch size="xs" label="Single keys" checked={!wish.off} onChange={(e) => wishKeys({ ...wish, off: !e.currentTarget.checked })} />
      {Object.keys(wish.own).length > 0 && (
        <Button size="compact-xs" variant="default" mt={6} onClick={() => wishKeys({ ...wish, own: {} })}>
          The usual keys
        </Button>
      )}
    </section>
  );
}
