import { useQuery } from "@tanstack/react-query";
import { Result, Spin } from "antd";
import { ask, client, Problem } from "./api/client";
import { House } from "./House";
import { SignIn } from "./pages/signin/SignIn";
import { Welcome } from "./pages/signin/Welcome";

/** Lets signed-in people into the house, and asks everyone else who they are. */
export function Gate() {
  return location.pathname === "/welcome" ? <Welcome /> : <Door />;
}

function Door() {
  const session = useQuery({
    queryKey: ["session"],
    queryFn: () => ask(client.GET("/session")),
    retry: false,
    staleTime: Infinity,
  });
  if (session.isPending) return <Spin fullscreen />;
  if (session.data) return <House session={session.data} />;
  if (session.error instanceof Problem && session.error.status === 401) return <SignIn />;
  return <Result status="warning" title="The service does not answer" subTitle="This page tries again when it is reloaded." />;
}
