import { useQuery } from "@tanstack/react-query";

import { placesQuery } from "../../shared/api/status";
import { Crumbs } from "../../shared/ui/Crumbs";
import { BookText } from "../../shared/ui/BookText";
import { Shown } from "../../shared/ui/states";

const starter = (place: string | undefined): string => `[partner.new-partner]
title    = "Its name for people"
note     = "What colleagues should know: what was agreed, and with whom"
people   = [ { name = "Ada Fenwick", role = "duty officer", mail = "duty@skerrow.example", phone = "" } ]
${place ? `places   = ["${place}"]\n` : ""}keys     = []   # names of its OpenPGP keys; import them with: wetbank key import NAME FILE
${place ? `delivery = { to = "${place}", folder = "{{ today }}", exists = "refuse", encrypt = false }` : `# delivery = { to = "PLACE" }, once there is a place`}
# quiet hours: quiet = { from = "22:00", until = "06:00", zone = "Europe/London" }
# expires = [ { what = "host key of sftp.skerrow.example", until = "2027-03-14" } ]
`;

export function NewPartnerPage() {
  return (
    <>
      <Crumbs to="/partners" above="Partners" here="new" />
      <h1 className="pb-3 text-2xl font-bold tracking-tight">Add a partner</h1>
      <Shown query={useQuery(placesQuery)}>{(places) => <BookText kind="partner" name="" text={starter(places.at(-1)?.name)} />}</Shown>
    </>
  );
}
