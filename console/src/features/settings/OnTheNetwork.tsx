import { useQuery } from "@tanstack/react-query";

import { statusQuery } from "../../shared/api/status";
import { day } from "../../shared/ui/format";
import { Shown } from "../../shared/ui/states";

/** How the service is reached: what it shows to those who connect. */
export function OnTheNetwork() {
  return (
    <Shown query={useQuery(statusQuery)}>
      {({ certificate }) =>
        certificate ? (
          <dl className="grid grid-cols-1 gap-x-6 gap-y-1 px-4 py-3 sm:grid-cols-[auto_1fr]">
            <dt className="quiet text-sm">Names</dt>
            <dd className="min-w-0 [overflow-wrap:anywhere]">{certificate.names.join(", ")}</dd>
            <dt className="quiet text-sm">Good until</dt>
            <dd>
              {day(certificate.ends)}
              {certificate.own && <span className="quiet text-sm"> · no authority vouches for it: whoever connects compares the fingerprint</span>}
            </dd>
            <dt className="quiet text-sm">Fingerprint</dt>
            <dd className="file min-w-0 [overflow-wrap:anywhere]">{certificate.fingerprint}</dd>
          </dl>
        ) : (
          <p className="quiet px-4 py-3">
            It shows no certificate and sends everything in clear. The guide says how it is put on a network: <span className="file">wetbank serve --certificate</span>.
          </p>
        )
      }
    </Shown>
  );
}
