/** What a program without devices says, and the ways to the first one. */
import { Link } from "@tanstack/react-router";
import { useMay } from "@/api/use-may";
import { Empty } from "./controls";

export function NoDevices() {
  const mayOperate = useMay("operate-all");
  const mayAdminister = useMay("administer");
  return (
    <Empty title="No device yet">
      {mayOperate ? (
        <>
          <Link to="/import/$id" params={{ id: "new" }} className="slot">
            Import a list
          </Link>{" "}
          of devices, add one in{" "}
          <Link to="/fleet" search={{}} className="slot">
            Fleet
          </Link>
          , or let them enrol themselves with an{" "}
          <Link to="/library" search={{ shelf: "enrolment" }} className="slot">
            enrolment code
          </Link>{" "}
          that an administrator makes.
        </>
      ) : mayAdminister ? (
        <>
          Make an{" "}
          <Link to="/library" search={{ shelf: "enrolment" }} className="slot">
            enrolment code
          </Link>
          , with which devices enrol themselves, and{" "}
          <Link to="/people" className="slot">
            invite an operator
          </Link>
          , who imports or adds devices, makes groups and launches rollouts.
        </>
      ) : (
        "An operator imports or adds the first ones."
      )}
    </Empty>
  );
}
