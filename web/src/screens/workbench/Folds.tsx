import { Fold } from "./Fold";
import { FoldHead } from "./FoldHead";
import { Forecast } from "./Forecast";
import { Forms } from "./Forms";
import { Loss, learntOf } from "./Loss";
import type { Ahead, PaneProps, StackProps } from "./types";
import { Units } from "./units/Units";
import { unitLength } from "./units/units";

const AHEAD: Ahead = { days: "7", interval: "0.9", skip: 0, side: "none", limit: null, isFamily: false };

/** What lies folded under the panes until it is wanted: what comes next, the seasons over one another, both forms. */
export function Folds({
  stream,
  view,
  range,
  scanId,
  plan,
  address,
  change,
  pane,
  level,
  setLevel,
}: StackProps & { pane: Omit<PaneProps, "time"> }) {
  const seasons = view.season_hours ?? [];
  const learnt = learntOf(view);
  const hasUnits = unitLength(view) !== null;
  return (
    <>
      {!hasUnits && (
        <FoldHead
          name="Forecast"
          isOpen={address.ahead !== null}
          setOpen={(isOpen) => change({ ahead: isOpen ? AHEAD : null })}
          words="what the plan expects next, how sure, and when a limit is reached"
        />
      )}
      {!hasUnits && address.ahead && (
        <Forecast stream={stream} plan={plan} ahead={address.ahead} setAhead={(ahead) => change({ ahead })} />
      )}
      {scanId !== null && hasUnits && (
        <FoldHead
          name="Units"
          isOpen={address.hasUnits}
          setOpen={(isOpen) => change({ hasUnits: isOpen })}
          words="each judged as a whole: what it was rebuilt as, and how the level parts them"
        />
      )}
      {scanId !== null && hasUnits && address.hasUnits && (
        <Units scanId={scanId} stream={stream} level={level} setLevel={setLevel} />
      )}
      {scanId !== null && !hasUnits && (
        <FoldHead
          name="Season fold"
          isOpen={address.hasFold}
          setOpen={(hasFold) => change({ hasFold })}
          words="all seasons over one another"
        />
      )}
      {scanId !== null && !hasUnits && address.hasFold && (
        <Fold stream={stream} scanId={scanId} seasons={seasons} at={(range[0] + range[1]) / 2} />
      )}
      {scanId !== null && seasons.length > 0 && (
        <FoldHead
          name="Both forms"
          isOpen={address.hasForms}
          setOpen={(hasForms) => change({ hasForms })}
          words="additive beside multiplicative, and what favours either"
        />
      )}
      {scanId !== null && seasons.length > 0 && address.hasForms && (
        <Forms streamId={stream.id} unit={stream.unit} scanId={scanId} pane={pane} />
      )}
      {learnt && (
        <FoldHead
          name="Loss"
          isOpen={address.hasLoss}
          setOpen={(hasLoss) => change({ hasLoss })}
          words="how the network learned, epoch by epoch"
        />
      )}
      {learnt && address.hasLoss && <Loss learnt={learnt} />}
    </>
  );
}
