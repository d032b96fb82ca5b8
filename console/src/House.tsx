import { useQueryClient } from "@tanstack/react-query";
import { Alert, Button, Flex, Layout, Spin, Typography } from "antd";
import { lazy, Suspense, useState } from "react";
import { Link, Navigate, Route, Routes, useLocation } from "react-router";
import { client, type Session } from "./api/client";
import { useEvents } from "./api/events";
import { Palette } from "./parts/Palette";
import { SignInAgain } from "./parts/SignInAgain";
import { leaf } from "./theme";

// The scripts of the pages that are opened first are fetched at once, beside the question who is signed in.
const start = () => import("./pages/start/Start");
const roster = () => import("./pages/workstations/Workstations");
if (location.pathname === "/") void start();
if (location.pathname === "/workstations") void roster();

// Each page is a script of its own, fetched when it is opened.
const Account = lazy(async () => ({ default: (await import("./pages/signin/Account")).Account }));
const Answers = lazy(async () => ({ default: (await import("./pages/answers/Answers")).Answers }));
const Deliveries = lazy(async () => ({ default: (await import("./pages/deliveries/Deliveries")).Deliveries }));
const DeliveryPage = lazy(async () => ({ default: (await import("./pages/deliveries/DeliveryPage")).DeliveryPage }));
const Drivers = lazy(async () => ({ default: (await import("./pages/drivers/Drivers")).Drivers }));
const Notifications = lazy(async () => ({ default: (await import("./pages/notifications/Notifications")).Notifications }));
const Orders = lazy(async () => ({ default: (await import("./pages/orders/Orders")).Orders }));
const Errands = lazy(async () => ({ default: (await import("./pages/errands/Errands")).Errands }));
const ImagePage = lazy(async () => ({ default: (await import("./pages/images/ImagePage")).ImagePage }));
const Images = lazy(async () => ({ default: (await import("./pages/images/Images")).Images }));
const Logbook = lazy(async () => ({ default: (await import("./pages/logbook/Logbook")).Logbook }));
const Models = lazy(async () => ({ default: (await import("./pages/models/Models")).Models }));
const Netboot = lazy(async () => ({ default: (await import("./pages/netboot/Netboot")).Netboot }));
const People = lazy(async () => ({ default: (await import("./pages/people/People")).People }));
const Receipts = lazy(async () => ({ default: (await import("./pages/receipts/Receipts")).Receipts }));
const Reports = lazy(async () => ({ default: (await import("./pages/reports/Reports")).Reports }));
const Room = lazy(async () => ({ default: (await import("./pages/rooms/Room")).Room }));
const Rooms = lazy(async () => ({ default: (await import("./pages/rooms/Rooms")).Rooms }));
const Sites = lazy(async () => ({ default: (await import("./pages/sites/Sites")).Sites }));
const Start = lazy(async () => ({ default: (await start()).Start }));
const Stores = lazy(async () => ({ default: (await import("./pages/stores/Stores")).Stores }));
const Walk = lazy(async () => ({ default: (await import("./pages/walk/Walk")).Walk }));
const Settings = lazy(async () => ({ default: (await import("./pages/settings/Settings")).Settings }));
const WorkstationPage = lazy(async () => ({ default: (await import("./pages/workstations/WorkstationPage")).WorkstationPage }));
const Workstations = lazy(async () => ({ default: (await roster()).Workstations }));

interface Page {
  path: string;
  title: string;
  right?: Session["rights"][number]; // without it the page is not in the head
}

const pages: Page[] = [
  { path: "workstations", title: "Workstations" },
  { path: "answers", title: "Answers" },
  { path: "images", title: "Images" },
  { path: "deliveries", title: "Deliveries" },
  { path: "orders", title: "Orders" },
  { path: "errands", title: "Errands" },
  { path: "receipts", title: "Receipts" },
  { path: "reports", title: "Reports" },
  { path: "drivers", title: "Drivers" },
  { path: "netboot", title: "Boot" },
  { path: "sites", title: "Sites" },
  { path: "stores", title: "Stores" },
  { path: "notifications", title: "Notifications", right: "see" },
  { path: "settings", title: "Settings", right: "see" },
  { path: "people", title: "People", right: "administer" },
  { path: "logbook", title: "Logbook" },
];

/** The frame around every page. */
export function House({ session }: { session: Session }) {
  const queries = useQueryClient();
  const here = useLocation().pathname.split("/")[1];
  const live = useEvents();
  const [account, setAccount] = useState(false);
  const shown = pages.filter((r) => !r.right || session.rights.includes(r.right));
  const signOut = async () => {
    await client.DELETE("/session");
    queries.clear();
    location.assign("/");
  };
  return (
    <Layout style={{ minHeight: "100vh" }}>
      <Layout.Header style={{ paddingInline: 12, paddingBlock: 8, height: "auto", lineHeight: "40px" }}>
        <Flex align="center" gap={4}>
          <Link to="/" title="Now: what needs somebody, what runs, and how the service is" style={{ display: "flex", alignItems: "center", gap: 8, color: "white", fontSize: 18, fontWeight: 600 }}>
            <img src="/mark.svg" alt="" width={26} height={26} />
            Jugate
          </Link>
          <nav aria-label="Pages" style={{ flex: 1, minWidth: 0, display: "flex", flexWrap: "wrap" }}>
            {shown.map((r) => (
              <Link key={r.path} to={`/${r.path}`} aria-current={here === r.path ? "page" : undefined} style={{ padding: "0 4.5px", lineHeight: "40px", fontSize: 12.5, borderRadius: 4, color: here === r.path ? "white" : "#cfd8cf", background: here === r.path ? leaf : undefined }}>
                {r.title}
              </Link>
            ))}
          </nav>
          <Button type="text" size="small" title="Your account" onClick={() => setAccount(true)}>
            <Typography.Text ellipsis style={{ color: "#cfd8cf", maxWidth: 72 }}>
              {session.name}
            </Typography.Text>
          </Button>
          <Button ghost size="small" style={{ color: "white", borderColor: "white" }} onClick={() => void signOut()}>
            Sign out
          </Button>
        </Flex>
      </Layout.Header>
      {!live && <Alert banner type="warning" title="The line to the service is lost; what you see may be old. Trying again…" />}
      <Layout.Content style={{ padding: 24, maxWidth: 1500, width: "100%", marginInline: "auto" }}>
        <Suspense fallback={<Spin />}>
        <Routes>
          <Route path="/" element={session.rights.includes("see") ? <Start /> : <Navigate to="/workstations" replace />} />
          <Route path="/workstations" element={<Workstations />} />
          <Route path="/workstations/:workstation" element={<WorkstationPage />} />
          <Route path="/models" element={<Models />} />
          <Route path="/walk" element={<Walk />} />
          <Route path="/rooms" element={<Rooms />} />
          <Route path="/rooms/:room" element={<Room />} />
          <Route path="/answers" element={<Answers />} />
          <Route path="/images" element={<Images />} />
          <Route path="/images/:image" element={<ImagePage />} />
          <Route path="/deliveries" element={<Deliveries />} />
          <Route path="/deliveries/:id" element={<DeliveryPage />} />
          <Route path="/orders" element={<Orders />} />
          <Route path="/errands" element={<Errands />} />
          <Route path="/receipts" element={<Receipts />} />
          <Route path="/reports" element={<Reports />} />
          <Route path="/drivers" element={<Drivers />} />
          <Route path="/netboot" element={<Netboot />} />
          <Route path="/sites" element={<Sites />} />
          <Route path="/stores" element={<Stores />} />
          <Route path="/notifications" element={<Notifications />} />
          <Route path="/settings" element={<Settings session={session} />} />
          <Route path="/people" element={<People />} />
          <Route path="/logbook" element={<Logbook />} />
          <Route path="*" element={<Navigate to="/" replace />} />
        </Routes>
          <Palette pages={shown.map((r) => ({ kind: "page", name: r.title, to: `/${r.path}` }))} />
          <SignInAgain session={session} />
          {account && <Account session={session} onClose={() => setAccount(false)} />}
        </Suspense>
      </Layout.Content>
    </Layout>
  );
}
