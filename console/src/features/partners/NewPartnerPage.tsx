import { useNavigate } from "react-router";

import { SectionEditor } from "../../shared/section/SectionEditor";
import { Crumbs } from "../../shared/ui/Crumbs";

export function NewPartnerPage() {
  const navigate = useNavigate();
  return (
    <>
      <Crumbs to="/partners" above="Partners" here="new" />
      <h1 className="pb-3 text-2xl font-bold tracking-tight">Add a partner</h1>
      <div className="max-w-4xl">
        <SectionEditor
          kind="partner"
          name=""
          text={"[partner.new-partner]\n"}
          version={undefined}
          fields={(forms) => forms.sections.partner ?? []}
          onDone={(name) => void navigate(`/partners/${name}`)}
        />
      </div>
    </>
  );
}
