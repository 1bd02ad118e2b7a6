import { places } from "../places";
import { Modal } from "./plain";
import { everywhere, inHand, type Keys } from "./shortcuts";

type Line = [keys: string[], words: string];

const listed = (of: Keys): Line[] => Object.entries(of).map(([key, words]) => [[key], words]);

/** All keys, by where they work: those of the tables, and those that move within something. */
export const keys: [title: string, lines: Line[]][] = [
  [
    "Everywhere",
    [
      ...listed(everywhere).filter(([[key]]) => key !== "g"),
      ...places.map((p): Line => [["g", p.key], `go to ${p.name}`]),
      [["Esc"], "close what is open"],
    ],
  ],
  [
    "On a run's page",
    [
      [["←", "→", "↑", "↓"], "move over the weave"],
      [["Home", "End"], "first and last combination"],
      [["Enter"], "open the attempt"],
      [["j", "k"], "next and last failure"],
      [["Esc"], "close the attempt"],
    ],
  ],
  ["With a device in hand", [...listed(inHand), [["Enter"], "in the screen tree: touch the element"]]],
  [
    "On an attempt, and on a device's screen",
    [
      [["↑", "↓"], "move through the moments, or the elements"],
      [["Enter"], "keep an element's card open"],
    ],
  ],
];

export function KeysHelp({ open, onClose }: { open: boolean; onClose: () => void }) {
  return (
    <Modal title="Keys" open={open} onClose={onClose}>
      {keys.map(([title, list]) => (
        <section key={title} className="pb-4">
          <h2 className="border-b border-rule pb-1">{title}</h2>
          <dl className="grid grid-cols-[120px_1fr] gap-y-1.5 pt-2">
            {list.map(([k, words]) => (
              <div key={words} className="contents">
                <dt className="flex gap-1">
                  {k.map((one) => (
                    <kbd key={one}>{one}</kbd>
                  ))}
                </dt>
                <dd>{words}</dd>
              </div>
            ))}
          </dl>
        </section>
      ))}
    </Modal>
  );
}
