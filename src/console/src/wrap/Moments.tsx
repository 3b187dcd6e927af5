import type { MomentsView } from "../api/client";

/** The next moments of each rhythm, as they would come once it is saved. */
export function Moments({ all }: { all: MomentsView[] | null | undefined }) {
  if (!all || all.length === 0) return null;
  return (
    <section aria-label="Next moments">
      {all.map((one) => (
        <div key={`${one.when} ${one.zone}`}>
          <p className="quiet">
            {one.when}, by the clock of {one.zone}; the next moments:
          </p>
          <ol className="moments number">
            {one.moments.map((moment) => (
              <li key={moment.at}>
                {moment.there}
                {moment.here && <span className="quiet"> · here {moment.here}</span>}
              </li>
            ))}
          </ol>
        </div>
      ))}
    </section>
  );
}
