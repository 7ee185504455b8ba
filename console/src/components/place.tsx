import { Link } from "react-router";
import type { Schemas } from "../api/client";
import { filesOf } from "../format";

/** A file or folder of a server, leading to the folder where it can be seen. */
export const PlaceLink = ({ place: p }: { place: Schemas["Place"] }) => (
  <Link className="font-mono break-all text-span underline underline-offset-2" to={filesOf(p.server, p.share, ...(p.folder ? p.path.split("/") : p.path.split("/").slice(0, -1)))}>{[p.server, p.share, p.path].filter(Boolean).join("/")}</Link>
);
