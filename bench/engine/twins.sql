-- The same questions in the peer's SQL: behind each name, one statement. Columns come in the order of the query's.

-- filter_and_sum
select sum(energy_kwh), count(*) from sessions where idle_minutes >= 30

-- near_filters
select sum(energy_kwh), count(*) from sessions
where channel = 'app' and energy_kwh between 20 and 40 and idle_minutes > 0 and bay_id < 2000

-- far_filters
select month, sum(energy_kwh), count(*)
from sessions left join days on start_day = day join bays using (bay_id) join stations using (station_id)
     join tariffs using (tariff_code) join cards using (card_id)
where region in ('Coast', 'Upland') and plan <> 'roaming' and max_kw >= 50 and holder = 'fleet'
group by month

-- date_range
select name, sum(energy_kwh), count(*)
from sessions join days on start_day = day left join bays using (bay_id) left join stations using (station_id)
where day between date '2024-03-04' and date '2024-03-17' and start_day between date '2024-03-04' and date '2024-03-17'
group by name

-- like_filter
select year, sum(energy_kwh)
from sessions left join days on start_day = day join bays using (bay_id) join stations using (station_id)
where name like '%e%a%'
group by year

-- one_hop
select plan, sum(energy_kwh), count(*) from sessions left join tariffs using (tariff_code) group by plan

-- two_dimensions
select year, month, plan, sum(energy_kwh), sum(idle_minutes)
from sessions left join days on start_day = day left join tariffs using (tariff_code)
group by year, month, plan

-- three_dimensions
select year, plan, region, sum(energy_kwh), count(*)
from sessions left join days on start_day = day left join tariffs using (tariff_code) left join bays using (bay_id)
     left join stations using (station_id)
group by year, plan, region

-- four_dimensions
select year, region, plan, holder, sum(energy_kwh), count(*)
from sessions left join days on start_day = day left join tariffs using (tariff_code) left join bays using (bay_id)
     left join stations using (station_id) left join cards using (card_id)
group by year, region, plan, holder

-- five_dimensions
select d.year, e.quarter, region, plan, holder, sum(energy_kwh), sum(idle_minutes), count(*)
from sessions left join days d on start_day = d.day left join days e on end_day = e.day
     left join tariffs using (tariff_code) left join bays using (bay_id) left join stations using (station_id)
     left join cards using (card_id)
group by d.year, e.quarter, region, plan, holder

-- snowflake
select region, connector, sum(energy_kwh), count(*)
from sessions left join bays using (bay_id) left join stations using (station_id)
group by region, connector

-- many_measures
select region, count(*), sum(energy_kwh), sum(idle_minutes), avg(energy_kwh), max(energy_kwh), min(started),
       sum(energy_kwh) filter (where channel = 'app'), count(*) filter (where energy_kwh >= 40)
from sessions left join bays using (bay_id) left join stations using (station_id)
group by region

-- arithmetic
select region, sum(round(energy_kwh * price_per_kwh, 2) + coalesce(round(idle_minutes * idle_price, 2), 0))
from sessions left join tariffs using (tariff_code) left join bays using (bay_id) left join stations using (station_id)
group by region

-- cases
select year, sum(case when energy_kwh >= 40 and plan = 'roaming' then energy_kwh * 2 when idle_minutes > 15 then energy_kwh
                      else 0.500 end)
from sessions left join tariffs using (tariff_code) left join days on start_day = day
group by year

-- stations_800
select name, count(*), sum(energy_kwh), sum(idle_minutes)
from sessions left join bays using (bay_id) left join stations using (station_id)
group by name

-- bay_days
select bay_id, start_day, sum(energy_kwh) as energy, count(*)
from sessions group by bay_id, start_day order by energy desc nulls last, bay_id, start_day limit 10

-- million_groups
select card_id, sum(energy_kwh) as energy, count(*)
from sessions group by card_id order by energy desc nulls last, card_id limit 10

-- best_stations
select name, region,
       sum(round(energy_kwh * price_per_kwh, 2) + coalesce(round(idle_minutes * idle_price, 2), 0)) as revenue, count(*)
from sessions left join tariffs using (tariff_code) left join bays using (bay_id) left join stations using (station_id)
group by name, region order by revenue desc nulls last, name, region limit 10

-- distinct_small
select year, month, count(distinct bay_id) from sessions left join days on start_day = day group by year, month

-- distinct_large
select count(distinct card_id) from sessions

-- distinct_by_group
select region, year, count(distinct card_id)
from sessions left join days on start_day = day left join bays using (bay_id) left join stations using (station_id)
group by region, year

-- medians
select plan, median(energy_kwh::double) from sessions left join tariffs using (tariff_code) group by plan

-- quantiles
select region, year, quantile_cont(energy_kwh::double, 0.9)
from sessions left join days on start_day = day left join bays using (bay_id) left join stations using (station_id)
group by region, year

-- spreads
select connector, stddev(energy_kwh), count(*) from sessions left join bays using (bay_id) group by connector

-- nested
select region, max(energy), avg(energy)
from stations left join (select station_id, sum(energy_kwh) as energy from sessions join bays using (bay_id)
                         group by station_id) using (station_id)
group by region

-- groups_of_groups
select year, avg(kwh)
from (select year, card_id, sum(energy_kwh) as kwh from sessions left join days on start_day = day
      group by year, card_id)
group by year

-- shares
select year, region, sum(energy_kwh), sum(energy_kwh) / sum(sum(energy_kwh)) over (partition by year)
from sessions left join days on start_day = day left join bays using (bay_id) left join stations using (station_id)
group by year, region

-- to_date
select year, month, sum(energy_kwh),
       case when year is not null then sum(sum(energy_kwh)) over (partition by year order by month) end
from sessions left join days on start_day = day
group by year, month

-- year_before
with by_day as (select start_day, sum(energy_kwh) as energy from sessions group by start_day),
     months as (select year, month, sum(energy) as energy from by_day left join days on start_day = day group by year, month),
     whole as (select year, month, count(*) = day(last_day(min(day))) as is_whole from days group by year, month),
     moved as (select whole.year, whole.month, b.day as before
               from whole join days b on b.year = whole.year - 1 and b.month = whole.month where is_whole
               union all
               select distinct days.year, days.month, b.day
               from whole join days using (year, month) join days b on b.day = (days.day - interval 1 year)::date
               where not is_whole),
     earlier as (select moved.year, moved.month, sum(energy) as energy
                 from moved join by_day on before = start_day group by moved.year, moved.month)
select m.year, m.month, m.energy, e.energy from months m left join earlier e using (year, month)

-- trailing
select day, energy, case when day is not null then sum(energy) over (order by day range between interval 6 days preceding
                                                                     and current row) end
from (select day, sum(energy_kwh) as energy from sessions left join days on start_day = day group by day)

-- running_total
select max(so_far) from (select sum(cost) over (partition by bay_id order by visit_id) as so_far from visits
                         where bay_id is not null)

-- best_of_each
select region, sum(energy)
from (select region, energy, rank() over (partition by region order by energy desc nulls last) as place
      from stations left join (select station_id, sum(energy_kwh) as energy from sessions join bays using (bay_id)
                               group by station_id) using (station_id))
where place <= 3
group by region
