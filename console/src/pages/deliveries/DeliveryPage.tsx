import { Link, useParams } from "react-router";
import { PageTitle } from "../../parts/PageTitle";
import { DeliveryCard } from "./DeliveryCard";

export function DeliveryPage() {
  const id = Number(useParams().id);
  return (
    <>
      <PageTitle title={<><Link to="/deliveries">Deliveries</Link> / {id}</>} />
      <DeliveryCard id={id} course />
    </>
  );
}
