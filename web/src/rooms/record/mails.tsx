/** The reports that one has sent by mail, and where each is on screen. */
import { Link } from "@tanstack/react-router";
import { usePageTitle } from "@/lib/title";
import { ReportMails } from "./report-mails";

const SILENT = 'admission = admitted and presence any of (silent, "never seen")';

export function MailsPage() {
  usePageTitle("Reports by mail");
  return (
    <div className="h-full overflow-auto px-5 py-4">
      <div className="mb-3 flex flex-wrap items-baseline gap-x-4 gap-y-1">
        <h1 className="mr-auto text-2xl">Reports by mail</h1>
        <span className="text-soft">On screen:</span>
        <Link to="/record/firmware" className="text-verdigris hover:underline">
          Firmware by model and site
        </Link>
        <Link to="/fleet" search={{ rule: SILENT }} className="text-verdigris hover:underline">
          Silent devices
        </Link>
        <Link to="/attention" search={{}} className="text-verdigris hover:underline">
          What needs attention
        </Link>
      </div>
      <ReportMails />
    </div>
  );
}
