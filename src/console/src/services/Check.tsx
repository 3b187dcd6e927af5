import { Button } from "@mantine/core";
import { useQuery } from "@tanstack/react-query";
import { api, take } from "../api/client";
import { Findings } from "../wrap/Findings";

/** What would go wrong with the service now; looked at when somebody asks. */
export function Check({ name, account }: { name: string; account: string }) {
  const check = useQuery({
    queryKey: ["check-of", name],
    queryFn: () => take(api.GET("/api/services/{name}/check", { params: { path: { name } } })),
    enabled: false,
  });
  return (
    <>
      <Button variant="default" size="sm" loading={check.isFetching} onClick={() => void check.refetch()}>
        Check it now
      </Button>
      {check.data && (
        <div className="sheet side" style={{ marginTop: 10 }}>
          <p role="status" className={check.data.clear ? undefined : "attention"}>
            {check.data.clear ? "✓" : "▲"} {check.data.said}
          </p>
          <Findings check={check.data} account={account} onChanged={() => void check.refetch()} />
        </div>
      )}
    </>
  );
}
