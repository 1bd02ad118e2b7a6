import { Modal } from "./plain";

const keys: [string, [string[], string][]][] = [
  [
    "Everywhere",
    [
      [["/"], "find a run, build, suite, case or device"],
      [["s"], "start a run"],
      [["g", "n"], "go to Now"],
      [["g", "r"], "go to Runs"],
      [["g", "s"], "go to Suites"],
      [["g", "b"], "go to Builds"],
      [["g", "f"], "go to Fleet"],
      [["g", "l"], "go to Lineups"],
      [["g", "h"], "go to By hand"],
      [["t"], "day or night"],
      [["?"], "these keys"],
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
  [
    "With a device in hand",
    [
      [["d"], "go to the device: what you type goes there"],
      [[":"], "go to the line of script"],
      [["i"], "look inside, or no more"],
      [["p"], "keep a picture"],
      [["m"], "mark this moment"],
      [["Enter"], "in the screen tree: touch the element"],
    ],
  ],
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
