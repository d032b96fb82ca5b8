import { useQuery } from "@tanstack/react-query";
import { Result, Spin } from "antd";
import { Problem } from "./api/client";
import { session } from "./api/session";
import { House } from "./House";
import { SignIn } from "./pages/signin/SignIn";
import { Welcome } from "./pages/signin/Welcome";

/** Lets signed-in people into the house, and asks everyone else who they are. */
export function Gate() {
  return location.pathname === "/welcome" ? <Welcome /> : <Door />;
}

function Door() {
  const who = useQuery(session);
  if (who.isPending) return <Spin fullscreen />;
  if (who.data) return <House session={who.data} />;
  if (who.error instanceof Problem && who.error.status === 401) return <SignIn />;
  return <Result status="warning" title="The service does not answer" subTitle="This page tries again when it is reloaded." />;
}
